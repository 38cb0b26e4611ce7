//! Whatever a need says is resolved, or refused with its place; what was resolved has statements. `KAMPF_CASES=1000000` tries as many.

use kampf_contest::{Expect, Field, NeedText, Restriction, derive, resolve};
use kampf_mangle::{Mangler, cases, try_all};
use kampf_schema::{Relations, ddl};

const SQL: &str = "CREATE TABLE strain (id INTEGER PRIMARY KEY, name VARCHAR(80) NOT NULL, since DATE);
    CREATE TABLE hive (id INTEGER PRIMARY KEY, strain_id INTEGER NOT NULL REFERENCES strain, mother_id INTEGER REFERENCES hive, label VARCHAR(20) NOT NULL,
      frames INTEGER NOT NULL, weight DECIMAL(8,2), seen TIMESTAMP, alive BOOLEAN NOT NULL);
    CREATE TABLE inspection (id INTEGER PRIMARY KEY, hive_id INTEGER NOT NULL REFERENCES hive, temper INTEGER, grams REAL);";

/// Needs as lines: from, then the values to give, the condition, the order, the limit, what is grouped by.
const NEEDS: [&str; 12] = [
    "hive\nlabel; strain.name; avg(inspection.temper) as calm; count(inspection) as visits\nframes > 8\ncalm desc; label\n100",
    "hive\nlabel; mother_id.label; sum(inspection.grams)\nstrain.name = 'x' or weight >= 1.5 and not alive\nweight desc\n5",
    "inspection\nid; hive.strain.name; hive.label as home\nhive.frames between 8 and :most and temper is not null\nhive.label; id desc\n",
    "strain\nname; count(hive); max(hive.weight) as most; min(hive.inspection.temper)\nsince > '2020-01-01'\n\n",
    "hive\nid\nid in (1, 2, 3) and seen < '2024-01-01 00:00:00' and label like 'a%'\n\n18446744073709551615",
    "hive\nlabel as a; frames as b\n\nb desc; a\n7",
    "inspection\nmonth; count() as visits; avg(temper); sum(grams * 2)\ntemper > 3\nvisits desc\n9\nstart_of(month, hive.seen) as month",
    "hive\ncount(inspection where temper > 3 and hive.strain.name = 'x') as bad; exists(inspection where grams > 1)\nif(:most, frames < :most)\nbad desc\n9",
    "hive\ncount(); sum(case when alive then frames else 0 end); max(coalesce(weight, 0))\nlabel matches 'H[0-9]+' and frames in :most\n\n",
    "hive\nupper(label) || '-' || substring(label, 2, 3) as x; round(weight * 1.5, 1); extract(year from seen)\nnot (frames + 1) % 2 = 0\nx\n3",
    "hive\nlabel; inspection where grams > 1 order temper desc, id limit 3 { temper, hive.strain.name as name } as worst\n\nlabel\n9",
    "strain\nname; hive order label limit 2 { label, inspection { grams } as all, last(inspection order temper).grams as x }; first(hive order seen).weight\n\n\n",
];

#[test]
fn any_need_is_resolved_or_refused() {
    let schema = ddl::read(SQL).expect("the schema is right").schema;
    let relations = Relations::of(&schema);
    let words = [
        "hive",
        "strain.",
        "inspection.temper",
        "mother_id.",
        "count(",
        "avg(",
        "sum(weight)",
        " as x",
        "desc",
        ":most",
        ":none",
        "; ",
        "\n",
        "is null",
        "not",
        "and",
        "or",
        "= true",
        "'2020-02-30'",
        "like '%'",
        " from inspection",
        " order temper desc",
        " limit 2 ",
        "inspection { ",
        " { ",
        " }",
        "last(hive order ",
        ").label",
        " where ",
        "distinct ",
        "exists(",
        "case when alive then ",
        " else 1 end",
        " * 2",
        " || ",
        "if(:most, ",
        "round(weight, 1)",
        "start_of(week, ",
        "in :most",
        "in ()",
        "label",
        "id",
    ];
    let taken = try_all(Mangler::new(&NEEDS, &words, 4).take(cases(4_000)), |text| {
        let mut lines = text.split('\n');
        let mut next = || lines.next().unwrap_or_default();
        let list = |line: &str| line.split(';').map(str::trim).filter(|part| !part.is_empty()).map(str::to_owned).collect::<Vec<_>>();
        let need = NeedText {
            from: next().to_owned(),
            give: list(next()),
            filter: Some(next().to_owned()).filter(|filter| !filter.trim().is_empty()),
            order: list(next()),
            limit: next().trim().parse().ok(),
            group: Some(list(next())).filter(|terms| !terms.is_empty()),
            distinct: text.contains("distinct "),
            expect: if text.len() % 3 == 0 { Expect::ZeroOrOne } else { Expect::Many },
            parameters: if text.contains(":most") { vec!["most".to_owned()] } else { Vec::new() },
            loading: Vec::new(),
            always: Vec::new(),
            ..NeedText::default()
        };
        match resolve(&schema, &relations, &need) {
            Ok(resolved) => {
                let field = Field::of(&schema, &resolved, &crate::common::OTHER, &Restriction::default());
                for choices in field.valid.iter().take(40) {
                    let plan = derive(&schema, &resolved, &crate::common::OTHER, choices);
                    assert!(!plan.statements(&crate::common::OTHER).is_empty(), "{choices}");
                }
                true
            }
            Err(error) => {
                assert!(!error.to_string().is_empty());
                false
            }
        }
    });
    assert!(taken > 0);
}
