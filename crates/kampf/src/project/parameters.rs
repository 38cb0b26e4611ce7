//! Parameters of contests: what is written of them, and where their values come from.

use kampf_contest::Need;
use kampf_fill::RecipeMaker;
use kampf_runner::{Draw, Drawn, DrawnParameter, ParameterSource};
use kampf_schema::expr::{self, Argument};
use kampf_schema::{LogicalType, Span, TableId, Value};

use super::config::ContestConfig;
use super::written::Written;
use super::{Project, find_column_of};
use crate::problem::{Problem, TextFile};

/// The parameters; without a need they take their types from their values.
pub(super) fn parameters(project: &Project, config: &ContestConfig, need: Option<&Need>) -> Result<Vec<DrawnParameter>, Problem> {
    let known = |at: usize| need.and_then(|need| need.parameters.get(at));
    let one = |(at, (name, text)): (usize, &(String, Written))| {
        let wanted = known(at).map(|parameter| Wanted { kind: parameter.kind, is_list: parameter.is_list });
        parameter(project, name, text, wanted)
    };
    config.parameters.iter().enumerate().map(one).collect()
}

/// What a need wants of a parameter.
#[derive(Clone, Copy)]
struct Wanted {
    kind: LogicalType,
    is_list: bool,
}

fn parameter(project: &Project, name: &str, text: &Written, wanted: Option<Wanted>) -> Result<DrawnParameter, Problem> {
    let source: &TextFile = &project.config.source;
    let at = |problem: Problem, span: Span| problem.at(source.place(text.place(span)));
    let recipe = expr::read_recipe(&text.value).map_err(|error| at(Problem::wrong(error.message).maybe_hint(error.hint), error.span))?;
    let whole = Span::new(0, text.value.len());
    if let expr::RecipeSource::Call { name: function, arguments } = &recipe.source
        && let Some(word) = ["any", "some", "missing"].into_iter().find(|word| function.text.eq_ignore_ascii_case(word))
    {
        let drawn = drawn(project, word, arguments, recipe.null_share).map_err(|problem| at(problem, function.span))?;
        let own = project.schema.table(drawn.table).columns[drawn.column].kind;
        if wanted.is_some_and(|wanted| !wanted.kind.comparable_with(own)) {
            let column = &project.schema.table(drawn.table).columns[drawn.column].name;
            return Err(at(Problem::wrong(format!("`{column}` is {own}, which cannot stand for `:{name}`")), whole));
        }
        let is_list = matches!(drawn.what, Draw::Some(_));
        return match wanted {
            Some(wanted) if wanted.is_list != is_list => Err(at(not_as_many(name, is_list), function.span)),
            _ => Ok(DrawnParameter {
                name: name.to_owned(),
                kind: wanted.map_or(own, |wanted| wanted.kind),
                source: ParameterSource::Drawn(drawn),
            }),
        };
    }
    if wanted.is_some_and(|wanted| wanted.is_list) {
        return Err(at(not_as_many(name, false), whole));
    }
    let kind = wanted.map(|wanted| wanted.kind).unwrap_or(match &recipe.source {
        expr::RecipeSource::Literal(value) | expr::RecipeSource::Range(value, _) => kind_of(value),
        expr::RecipeSource::Call { .. } | expr::RecipeSource::Object(_) => LogicalType::TEXT,
    });
    // A word alone is most often meant as it stands.
    let fixed = match &recipe.source {
        expr::RecipeSource::Call { name, arguments } if arguments.is_empty() && matches!(kind, LogicalType::Text { .. }) => {
            Some(format!("a recipe is expected; a fixed text is written in quotes within the quotes: \"'{}'\"", name.text))
        }
        _ => None,
    };
    RecipeMaker::new(&recipe, kind, project.race_seed, name)
        .map_err(|(message, hint, span)| (message, fixed.or(hint), span))
        .map(|maker| DrawnParameter { name: name.to_owned(), kind, source: ParameterSource::Recipe(maker) })
        .map_err(|(message, hint, span)| at(Problem::wrong(message), span.unwrap_or(whole)).maybe_hint(hint))
}

fn not_as_many(name: &str, is_list: bool) -> Problem {
    if is_list {
        let problem = Problem::wrong(format!("`:{name}` is one value in this need, and this is a list"));
        return problem.hint(format!("draw one value, like `any(hive.id)`, or ask `in :{name}`"));
    }
    Problem::wrong(format!("`:{name}` is a list in this need, and this is one value"))
        .hint("draw several values of a column, like `some(hive.id, 20)`")
}

/// `any(hive.id)`, `any(hive.id, zipf 1.1)`, `some(hive.id, 20)`, `missing(hive.id)`.
fn drawn(project: &Project, word: &str, arguments: &[Argument], null_share: u32) -> Result<Drawn, Problem> {
    let form = match word {
        "any" => "like `any(hive.id)`, or `any(hive.id, zipf 1.1)` for few of them far more often",
        "some" => "like `some(hive.id, 20)`",
        _ => "like `missing(hive.id)`",
    };
    let Some((Argument::Path(path), rest)) = arguments.split_first() else {
        return Err(Problem::wrong(format!("`{word}` takes a column")).hint(form));
    };
    let named = path.iter().map(ToString::to_string).collect::<Vec<_>>().join(".");
    let [table, column] = path.as_slice() else { return Err(Problem::wrong(format!("`{word}` takes a column")).hint(form)) };
    let (table, column) = find_column_of(&project.schema, &table.text, &column.text)?;
    if project.blueprint.rows(table) == 0 {
        return Err(Problem::wrong(format!("`{named}` has no values: its table is empty")));
    }
    let what = match (word, rest) {
        ("any", []) => Draw::Any,
        ("any", [Argument::Named(name, exponent)]) if name.text.eq_ignore_ascii_case("zipf") => {
            let exponent = exponent.as_ref().as_real().filter(|exponent| *exponent > 0.0 && *exponent <= 10.0);
            Draw::Zipf { exponent: exponent.ok_or_else(|| Problem::wrong("the exponent of `zipf` lies above 0 and is 10 at most"))? }
        }
        ("some", [Argument::Value(Value::Integer(many @ 0..=10_000), None)]) => Draw::Some(many.unsigned_abs()),
        ("some", [Argument::Value(..)]) => {
            return Err(Problem::wrong("a list has from 0 to 10,000 values").hint(form));
        }
        ("missing", []) => Draw::Missing(largest(project, table, column, &named)?),
        _ => return Err(Problem::wrong(format!("this is not what `{word}` takes")).hint(form)),
    };
    Ok(Drawn { table, column, what, null_share })
}

/// The largest value of a column, behind which others are not there.
fn largest(project: &Project, table: TableId, column: usize, named: &str) -> Result<Value, Problem> {
    let kind = project.schema.table(table).columns[column].kind;
    if matches!(kind, LogicalType::Boolean | LogicalType::Blob) {
        return Err(Problem::wrong(format!("`{named}` is {kind}, of which nothing can be told to be missing")));
    }
    if kind == LogicalType::Uuid {
        return Ok(Value::Null);
    }
    if let LogicalType::Text { length: Some(longest @ 0..=1_000) } = kind {
        // What is longer than a column can hold is in none of its rows.
        return Ok(Value::from("~".repeat(longest as usize).as_str()));
    }
    let value = |row| project.blueprint.value(table, row, column);
    let largest = match project.blueprint.ceiling(table, column) {
        Some(value) => value,
        None => {
            let values = (0..project.blueprint.rows(table)).map(value);
            values.max_by(|left, right| left.as_ref().order(right.as_ref())).unwrap_or(Value::Null)
        }
    };
    match (largest, kind) {
        (Value::Null, LogicalType::Integer) => Ok(Value::Integer(0)),
        (Value::Null, LogicalType::Text { .. }) => Ok(Value::from("")),
        (Value::Null, _) => Err(Problem::wrong(format!("`{named}` holds nothing but null"))),
        (Value::Integer(number), _) if number > i64::MAX - 1_000 => {
            Err(Problem::wrong(format!("`{named}` goes up to {number}, behind which there is no room for a value that is missing")))
        }
        (value, _) => Ok(value),
    }
}

fn kind_of(value: &Value) -> LogicalType {
    match value {
        Value::Integer(_) => LogicalType::Integer,
        Value::Decimal(_, scale) => LogicalType::Decimal { precision: 15, scale: *scale },
        Value::Real(_) => LogicalType::Real,
        Value::Boolean(_) => LogicalType::Boolean,
        Value::Date(_) => LogicalType::Date,
        Value::Timestamp(_) => LogicalType::Timestamp,
        _ => LogicalType::TEXT,
    }
}
