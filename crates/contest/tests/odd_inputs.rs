//! Whatever a need says is resolved, or refused with its place; what was resolved has statements. `KAMPF_CASES=1000000` tries as many.

mod common;

use kampf_contest::{Field, NeedText, Restriction, derive, resolve};
use kampf_mangle::{Mangler, cases, try_all};
use kampf_schema::{Relations, ddl};

const SQL: &str = "CREATE TABLE strain (id INTEGER PRIMARY KEY, name VARCHAR(80) NOT NULL, since DATE);
    CREATE TABLE hive (id INTEGER PRIMARY KEY, strain_id INTEGER NOT NULL REFERENCES strain, mother_id INTEGER REFERENCES hive, label VARCHAR(20) NOT NULL,
      frames INTEGER NOT NULL, weight DECIMAL(8,2), seen TIMESTAMP, alive BOOLEAN NOT NULL);
    CREATE TABLE inspection (id INTEGER PRIMARY KEY, hive_id INTEGER NOT NULL REFERENCES hive, temper INTEGER, grams REAL);";

/// Needs as lines: from, then the values to give, the condition, the order, the limit.
const NEEDS: [&str; 6] = [
    "hive\nlabel; strain.name; avg(inspection.temper) as calm; count(inspection) as visits\nframes > 8\ncalm desc; label\n100",
    "hive\nlabel; mother_id.label; sum(inspection.grams)\nstrain.name = 'x' or weight >= 1.5 and not alive\nweight desc\n5",
    "inspection\nid; hive.strain.name; hive.label as home\nhive.frames between 8 and :most and temper is not null\nhive.label; id desc\n",
    "strain\nname; count(hive); max(hive.weight) as most; min(hive.inspection.temper)\nsince > '2020-01-01'\n\n",
    "hive\nid\nid in (1, 2, 3) and seen < '2024-01-01 00:00:00' and label like 'a%'\n\n18446744073709551615",
    "hive\nlabel as a; frames as b\n\nb desc; a\n7",
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
            parameters: if text.contains(":most") { vec!["most".to_owned()] } else { Vec::new() },
        };
        match resolve(&schema, &relations, &need) {
            Ok(resolved) => {
                let field = Field::of(&schema, &resolved, &common::OTHER, &Restriction::default());
                for choices in field.valid.iter().take(40) {
                    let plan = derive(&schema, &resolved, &common::OTHER, choices);
                    assert!(!plan.statements().is_empty(), "{choices}");
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
