//! The ways of a write: which there are, and which enter.

use kampf_schema::Schema;

use super::{Field, NotDerived};
use crate::choice::{Back, Batch, Choice, ChoiceOption, Choices, Commit, Opt, Restriction, Statement};
use crate::dialect::Dialect;
use crate::write::{Act, Write, follows, generated_key, has_children};

/// What of a write decides which choices there are.
struct Nature {
    /// Whether it takes more than one new row.
    many_rows: bool,
    /// Whether it may take more than one statement.
    many_statements: bool,
    /// Whether the database makes keys of new rows, and whether new rows hang on those.
    makes_keys: bool,
    needs_keys: bool,
    /// Whether the schema has the database delete some of what hangs on a row.
    cascades: bool,
}

impl Nature {
    fn of(schema: &Schema, write: &Write) -> Nature {
        let new = write.new_tables();
        let rows: u64 = new.iter().map(|(_, rows)| rows).sum();
        let makes = |place: usize| generated_key(schema, new[place].0).is_some();
        let (also, gone) = match &write.act {
            Act::Delete { also } => (also.as_slice(), true),
            _ => (&[][..], false),
        };
        let cascades = also.iter().any(|&table| follows(schema, write, also, table));
        Nature {
            many_rows: rows > 1,
            many_statements: rows > 1 || (gone && !also.is_empty()),
            makes_keys: (0..new.len()).any(makes),
            needs_keys: (0..new.len()).any(|place| makes(place) && has_children(write, place)),
            cascades,
        }
    }

    fn applies(&self, choice: Choice) -> bool {
        match choice {
            Choice::Path | Choice::Statement => true,
            Choice::Batch => self.many_rows,
            Choice::Commit => self.many_statements,
            Choice::Back => self.makes_keys,
            Choice::Hang => self.cascades,
            _ => false,
        }
    }

    /// Why options do not go together; none where they do.
    fn refusal(&self, choices: &Choices, dialect: &Dialect) -> Option<&'static str> {
        let batch = choices.get::<Batch>().unwrap_or(Batch::Single);
        let back = choices.get::<Back>();
        let statement = choices.get::<Statement>().unwrap_or(Statement::Prepared);
        if self.needs_keys && back == Some(Back::Unasked) {
            return Some("what hangs on new rows needs their keys");
        }
        match batch {
            Batch::Single => None,
            Batch::Sent if !dialect.has_trips => Some("without a server there are no trips to save, so it is the same as one by one"),
            Batch::Bulk if dialect.bulk.is_none() => Some("the engine has no way of its own but a prepared statement for each row"),
            Batch::Bulk if back.is_some_and(|back| back != Back::Unasked) => Some("the engine's own way gives no keys back"),
            Batch::Bulk if statement != Statement::Prepared => Some("the engine's own way is no statement with values"),
            Batch::Sent | Batch::Values if back == Some(Back::Asked) => Some("the last key can only be asked for after each row"),
            Batch::Sent if statement != Statement::Prepared => Some("only statements that are prepared go in one trip"),
            Batch::Sent if choices.get() == Some(Commit::Each) => {
                Some("in one trip those behind one that fails would be carried out all the same")
            }
            Batch::Sent | Batch::Values | Batch::Bulk => None,
        }
    }
}

impl Field {
    /// The field of a write.
    ///
    /// The default entry begins with the naive end, puts all into one transaction, has keys come back in leaner ways, and then tries every batch. So every
    /// member but the first differs from another in one choice.
    pub fn of_write(schema: &Schema, write: &Write, dialect: &Dialect, restriction: &Restriction) -> Field {
        let nature = Nature::of(schema, write);
        let options = |choice: Choice| -> Vec<Opt> {
            let sized = |option: Opt| {
                if !option.entry().has_size {
                    return vec![option];
                }
                let asked = restriction.sizes(option);
                let sizes = if !asked.is_empty() { asked } else { write.sizes.clone() };
                let sizes = if sizes.is_empty() { vec![Opt::AUTO] } else { sizes };
                sizes.iter().map(|&size| option.of_size(size)).collect()
            };
            choice.options().flat_map(sized).filter(|option| restriction.allows(*option)).collect()
        };
        let axes: Vec<(Choice, Vec<Opt>)> = [Choice::Path, Choice::Batch, Choice::Commit, Choice::Back, Choice::Hang]
            .into_iter()
            .filter(|choice| nature.applies(*choice))
            .map(|choice| (choice, options(choice)))
            .collect();
        let statements = options(Choice::Statement);
        let usual = statements.iter().copied().find(|option| *option == Statement::Prepared.opt()).or(statements.first().copied());
        let mut field = Field { manners: vec![Vec::new()], ..Field::default() };
        let mut combinations = vec![usual.map_or(Choices::default(), |usual| Choices::default().with_opt(usual))];
        for (_, options) in &axes {
            combinations = combinations.iter().flat_map(|choices| options.iter().map(|&option| choices.with_opt(option))).collect();
        }
        for choices in combinations {
            if let Some(reason) = nature.refusal(&choices, dialect) {
                field.not_derived.push(NotDerived { choices, reason });
                continue;
            }
            let others =
                statements.iter().copied().filter(|option| Some(*option) != usual).map(|option| Choices::default().with_opt(option));
            let is_possible = |manner: &Choices| nature.refusal(&manner.options().fold(choices, Choices::with_opt), dialect).is_none();
            field.valid.push(choices);
            field.add_manners(others.filter(is_possible).collect());
        }
        field.entered = entered(&field, &axes);
        if let Some(at) = field.entered.iter().rposition(|member| member.get::<Batch>() != Some(Batch::Bulk)) {
            let (member, valid) = (field.entered[at], field.valid.iter().position(|valid| *valid == field.entered[at]));
            let manners = valid.map(|valid| field.manners[field.manner_of[valid]].clone()).unwrap_or_default();
            let enter = manners.iter().flat_map(Choices::options).filter(|option| restriction.enters(*option));
            field.entered.extend(enter.map(|option| member.with_opt(option)));
        }
        field
    }
}

/// Who enters: from the naive end on.
fn entered(field: &Field, axes: &[(Choice, Vec<Opt>)]) -> Vec<Choices> {
    let mut entered: Vec<Choices> = Vec::new();
    let Some(&naive) = field.valid.first() else { return entered };
    let mut enter = |choices: Choices| {
        let is_valid = field.valid.contains(&choices);
        if is_valid && !entered.contains(&choices) {
            entered.push(choices);
        }
        is_valid
    };
    let options = |choice: Choice| axes.iter().find(|(of, _)| *of == choice).map_or(&[][..], |(_, options)| options.as_slice());
    enter(naive);
    let mut at = naive;
    for &commit in options(Choice::Commit) {
        if enter(at.with_opt(commit)) {
            at = at.with_opt(commit);
        }
    }
    for &hang in options(Choice::Hang) {
        enter(at.with_opt(hang));
    }
    let backs: Vec<Choices> = match options(Choice::Back) {
        [] => vec![at],
        backs => backs.iter().map(|&back| at.with_opt(back)).filter(|choices| enter(*choices)).collect(),
    };
    for &batch in options(Choice::Batch) {
        for back in &backs {
            enter(back.with_opt(batch));
        }
    }
    entered
}
