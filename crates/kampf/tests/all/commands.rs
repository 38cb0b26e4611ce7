//! The commands one after the other, as a user runs them.

use crate::common::{Folder, SQL, TOML, without_times};
use serde_json::Value as Json;

fn json(text: &str) -> Json {
    serde_json::from_str(text).unwrap_or_else(|error| panic!("{error}\n{text}"))
}

#[test]
fn show_prints_every_contender_with_its_sql() {
    let folder = Folder::apiary("");
    insta::assert_snapshot!(folder.ok(&["show", "calm", "--only", "computed.database.needed.raw", "--only", "lazy.database.all.managed"]), @r#"
    calm
    Each of 40 rows of hive gives label, strain.name, the mean temper of its about 6.3 rows of
    inspection and how many rows of inspection it has (about 6.3); by calm, largest first; at most 10 of
    them.
    The order does not end in a unique key, so id was added to it.

    lazy.database.all.managed  by hand: nothing
        SELECT "hive"."id", "hive"."strain_id", "hive"."label", "hive"."frames"
        FROM "hive"
        ORDER BY (SELECT avg("inspection"."temper") FROM "inspection" WHERE "inspection"."hive_id" = "hive"."id") DESC, "hive"."id" DESC
        LIMIT 10
      then, for each parent touched:
        SELECT "id", "name"
        FROM "strain"
        WHERE "id" = ?1
      then, for each parent touched:
        SELECT "id", "hive_id", "temper"
        FROM "inspection"
        WHERE "hive_id" = ?1

    computed.database.needed.raw  by hand: 1 SQL, 4 columns
        SELECT "hive"."label",
          (SELECT "strain"."name" FROM "strain" WHERE "strain"."id" = "hive"."strain_id") AS "strain.name",
          (SELECT avg("inspection"."temper") FROM "inspection" WHERE "inspection"."hive_id" = "hive"."id") AS "calm",
          (SELECT count(*) FROM "inspection" WHERE "inspection"."hive_id" = "hive"."id") AS "visits"
        FROM "hive"
        ORDER BY "calm" DESC, "hive"."id" DESC
        LIMIT 10

    928 more combinations are valid; --all shows those in their usual manner, and why others are not
    derived
    "#);
    let all = folder.ok(&["show", "calm", "--all"]);
    assert!(all.contains("lazy.app.needed.managed: an entity with some of its columns cannot be compared and saved"));
    assert!(all.contains("joined.database.all.raw: raw keeps nothing, so rows that a join repeats cannot be recognised"));
    let relations = folder.ok(&["show", "--relations"]);
    insta::assert_snapshot!(relations, @r"
    from        relation    to    table       by
    strain      hive        many  hive        hive.strain_id
    hive        strain      one   strain      hive.strain_id
    hive        inspection  many  inspection  inspection.hive_id
    inspection  hive        one   hive        inspection.hive_id
    ");
}

#[test]
fn the_default_field_is_what_the_rules_say() {
    let folder = Folder::apiary("");
    let names: Vec<String> = json(&folder.ok(&["show", "calm", "--format", "json"]))["contenders"]
        .as_array()
        .unwrap()
        .iter()
        .map(|contender| contender["name"].as_str().unwrap().to_owned())
        .collect();
    insta::assert_snapshot!(names.join("\n"), @r"
    lazy.app.all.managed
    lazy.database.all.managed
    batched.database.all.managed
    joined.database.all.managed
    grouped.database.all.managed
    computed.database.all.managed
    computed.database.all.plain
    computed.database.needed.plain
    computed.database.needed.map
    computed.database.needed.record
    computed.database.needed.raw
    computed.database.needed.plain+built
    ");
    let folder = Folder::apiary("[contest.calm.choices]\nloading = [\"lazy\", \"joined\"]\nhydration = [\"plain\", \"record\"]\n");
    let shown = folder.ok(&["show", "calm"]);
    let names: Vec<&str> = shown.lines().filter(|line| line.contains("  by hand")).map(|line| line.split("  ").next().unwrap()).collect();
    assert_eq!(
        names,
        [
            "lazy.app.all.plain",
            "lazy.database.all.plain",
            "joined.database.all.plain",
            "joined.database.needed.plain",
            "joined.database.needed.record",
            "joined.database.needed.plain+built"
        ]
    );
}

#[test]
fn data_is_made_once_and_made_anew_when_something_changes() {
    let folder = Folder::apiary("");
    let first = json(&folder.ok(&["fill", "--format", "json"]));
    assert_eq!(first["reused"], false);
    assert_eq!(first["tables"][1]["rows"], 40);
    let again = json(&folder.ok(&["fill", "--format", "json"]));
    assert_eq!((&again["reused"], &again["fingerprint"]), (&Json::Bool(true), &first["fingerprint"]));
    folder.write("kampf.toml", TOML.replace("hive = 40", "hive = 41"));
    let changed = json(&folder.ok(&["fill", "--format", "json"]));
    assert_eq!(changed["reused"], false);
    assert_eq!((&changed["tables"][1]["rows"], changed["fingerprint"] == first["fingerprint"]), (&Json::from(41), false));
    // A comment in the schema is no change.
    folder.write("apiary.sql", format!("-- more words\n{SQL}"));
    assert_eq!(json(&folder.ok(&["fill", "--format", "json"]))["reused"], true);
    // Going back finds the old data; many changes do not pile up.
    folder.write("kampf.toml", TOML);
    assert_eq!(json(&folder.ok(&["fill", "--format", "json"]))["reused"], true);
    for hives in 50..56 {
        folder.write("kampf.toml", TOML.replace("hive = 40", &format!("hive = {hives}")));
        folder.ok(&["fill"]);
    }
    assert!(folder.datasets().len() <= 3, "{:?}", folder.datasets());
}

#[test]
fn an_interrupted_fill_is_recognised_and_a_stranger_s_file_is_not_touched() {
    let folder = Folder::apiary("");
    folder.ok(&["fill"]);
    let data = folder.datasets().remove(0);
    // As after a kill: rows are missing, and the record that is written last is not there.
    std::fs::remove_file(data.join("dataset.json")).unwrap();
    std::fs::write(data.join("dataset.sqlite"), "half").unwrap();
    std::fs::write(data.join("dataset.sqlite-journal"), "half").unwrap();
    assert_eq!(json(&folder.ok(&["fill", "--format", "json"]))["reused"], false);
    assert!(folder.ok(&["check"]).contains("all 12 contenders give this answer"));
    std::fs::remove_file(data.join("dataset.json")).unwrap();
    std::fs::write(data.join("diary.txt"), "mine").unwrap();
    assert!(folder.error(&["fill"], 3).contains("holds diary.txt, which Kampf did not make"));
    assert!(data.join("diary.txt").exists());
}

#[test]
fn check_says_whether_all_agree_and_prints_the_answer() {
    let folder = Folder::apiary(
        "[contest.calm.contender.right]\nsql = \"select label, (select name from strain where id = strain_id), (select avg(temper) from inspection where hive_id = hive.id) c, \
         (select count(*) from inspection where hive_id = hive.id) from hive order by c desc, id limit 10\"\n\
         [contest.calm.contender.wrong]\nsql = \"select label, 'none', 1.0, 0 from hive order by id limit 10\"\n\
         [contest.calm.contender.short]\nsql = \"select label from hive\"\n\
         [contest.calm.contender.broken]\nsql = \"select honey from hive\"\n",
    );
    let ended = folder.kampf(&["check", "-q"]);
    assert_eq!(ended.status, 1);
    insta::assert_snapshot!(ended.stdout, @r#"
    calm  10 rows, checked on all rows by plain evaluation
      agrees  lazy.app.all.managed
      agrees  lazy.database.all.managed
      agrees  batched.database.all.managed
      agrees  joined.database.all.managed
      agrees  grouped.database.all.managed
      agrees  computed.database.all.managed
      agrees  computed.database.all.plain
      agrees  computed.database.needed.plain
      agrees  computed.database.needed.map
      agrees  computed.database.needed.record
      agrees  computed.database.needed.raw
      agrees  computed.database.needed.plain+built
      agrees  right
      differs wrong
        row 1     label     strain.name  calm               visits
        right     HL-67277  Häflö        832.3333333333334  6
        this one  EI-36132  none         1.0                0
      failed  short: the statement gives 1 columns, but 4 are asked for
      failed  broken: SQLite says: no such column: honey (line 1, column 8 of the statement: `honey from
              hive`)
    "#);
    let answer = folder.kampf(&["check", "calm", "--answer", "--format", "json", "-q", "--only", "right"]);
    assert_eq!(answer.status, 0, "{}", answer.stderr);
    assert_eq!(answer.stdout.lines().count(), 10);
    let first = json(answer.stdout.lines().next().unwrap());
    assert!(first[0].is_string() && first[2].is_f64() && first[3].is_u64(), "{first}");
    let document = json(&folder.kampf(&["check", "--format", "json", "-q"]).stdout);
    let wrong = &document["contests"][0]["contenders"][13];
    assert_eq!((&wrong["name"], &wrong["agrees"], &wrong["row"]), (&Json::from("wrong"), &Json::from(false), &Json::from(0)));
}

#[test]
fn a_race_measures_decides_and_is_saved() {
    let folder = Folder::apiary("[contest.calm.contender.wrong]\nsql = \"select label, 'none', 1.0, 0 from hive order by id limit 10\"\n");
    let ended = folder.kampf(&["race", "--time", "2s", "--rounds", "3", "--format", "json", "-q"]);
    assert_eq!(ended.status, 1, "a contender disagrees: {}", ended.stderr);
    let document = json(&ended.stdout);
    assert_eq!((&document["format"], &document["version"]), (&Json::from("kampf-result"), &Json::from(1)));
    assert!(document["machine"]["cores"].as_u64().unwrap() > 0);
    let contest = &document["contests"][0];
    assert_eq!(contest["engine"]["name"], "sqlite");
    let contenders = contest["contenders"].as_array().unwrap();
    assert_eq!(contenders.len(), 13);
    let named = |name: &str| contenders.iter().find(|contender| contender["name"] == name).unwrap();
    let wrong = named("wrong");
    assert_eq!((&wrong["outcome"], wrong["rounds"].as_array().unwrap().len()), (&Json::from("disagrees"), 0));
    let lazy = named("lazy.database.all.managed");
    assert_eq!(lazy["statements"].as_u64().unwrap(), 1 + 10 + lazy["objects"].as_u64().unwrap() - 10 - inspections(lazy));
    assert_eq!(lazy["counted"]["round_trips"], "modelled");
    let raw = named("computed.database.needed.raw");
    assert_eq!((&raw["statements"], &raw["rows"], &raw["objects"]), (&Json::from(1), &Json::from(10), &Json::from(0)));
    assert!(raw["latency_ns"]["median"].as_f64().unwrap() > 0.0);
    assert!(contenders.iter().any(|contender| contender["outcome"] == "standing" && contest["verdict"]["leader"] == contender["name"]));
    // They stand by what is shown of them: the leader's median times the ratio within rounds.
    let shown: Vec<f64> = contenders.iter().filter_map(|contender| contender["latency_ns"]["shown"].as_f64()).collect();
    assert!(shown.len() == 12 && shown.is_sorted(), "{shown:?}");
    assert_eq!((&raw["beside"], &raw["keeps_nothing"]), (&Json::from("floor"), &Json::from(true)));
    let record = named("computed.database.needed.record");
    let map = named("computed.database.needed.map");
    assert!(map["allocations"].as_u64() > record["allocations"].as_u64());
    let saved: Vec<_> = std::fs::read_dir(folder.path().join(".kampf/results")).unwrap().flatten().collect();
    assert_eq!(saved.len(), 1);
    assert_eq!(json(&std::fs::read_to_string(saved[0].path()).unwrap()), document);
}

/// Inspections among a contender's objects: what is neither one of the ten hives nor a strain.
fn inspections(contender: &Json) -> u64 {
    let rows = contender["rows"].as_u64().unwrap();
    let strains = contender["statements"].as_u64().unwrap() - 11;
    rows - 10 - strains
}

#[test]
fn requirements_choose_the_least_work_and_make_a_gate() {
    let meets = Folder::apiary("[contest.calm.require]\nmedian = \"5s\"\nstatements = 3\n");
    let text = meets.ok(&["race", "--time", "30s", "--rounds", "12", "-q", "--require"]).replace("\n ", "");
    assert!(
        text.contains("Take batched.database.all.managed: of the 9 that meet the requirements it leaves you the least to do (no SQL)")
            || text.contains("Take joined.database.all.managed"),
        "{text}"
    );
    assert!(text.contains("lazy.database.all.managed: statements"), "{text}");
    // Two rounds tell no median: it is provisional, and no gate lets that through.
    let ended = meets.kampf(&["race", "--time", "3s", "--rounds", "2", "-q", "--require"]);
    assert!(ended.status == 1 && ended.stdout.contains("Provisional: nobody surely meets the requirements"), "{}", ended.stdout);
    assert_eq!(meets.kampf(&["race", "--time", "3s", "--rounds", "2", "-q"]).status, 0);
    let misses = Folder::apiary("[contest.calm.require]\nrows = 3\n");
    let ended = misses.kampf(&["race", "--time", "1s", "--rounds", "2", "-q", "--require"]);
    assert_eq!(ended.status, 1);
    assert!(ended.stdout.contains("No contender meets the requirements. What comes nearest:\n  rows: "), "{}", ended.stdout);
    assert_eq!(misses.kampf(&["race", "--time", "1s", "--rounds", "2", "-q"]).status, 0);
}

#[test]
fn contests_of_own_sql_only_and_parameters_work() {
    let folder = Folder::apiary(
        "[contest.two]\nparameters = { least = \"10..20\" }\n\
         [contest.two.contender.one]\nsql = \"select label from hive where frames >= :least\"\n\
         [contest.two.contender.other]\nsql = \"select label from hive where not frames < :least order by id desc\"\n\
         [contest.some]\nfrom = \"hive\"\ngive = [\"label\", \"count(inspection)\"]\nwhere = \"strain_id = :strain and label contains '-'\"\n\
         parameters = { strain = \"any(strain.id)\" }\n",
    );
    let text = folder.ok(&["check", "two", "some", "-q"]);
    assert!(text.contains("over 8 parameter sets, checked against one") && text.contains("all 2 contenders give this answer"), "{text}");
    assert!(text.contains("over 8 parameter sets, checked on all rows by plain evaluation"), "{text}");
    folder.ok(&["race", "two", "-q", "--time", "1s", "--rounds", "2"]);
    let ordered = Folder::apiary(
        "[contest.two]\nordered = true\n[contest.two.contender.one]\nsql = \"select label from hive order by id\"\n\
         [contest.two.contender.other]\nsql = \"select label from hive order by id desc\"\n",
    );
    assert_eq!(ordered.kampf(&["check", "two", "-q"]).status, 1);
}

#[test]
fn a_trace_shows_every_statement_and_points_out_repeats() {
    let folder = Folder::apiary("");
    let text = folder.ok(&["trace", "calm", "lazy.database.all.managed", "-q"]);
    assert!(text.contains("N+1: the same statement for one parent after the other"), "{text}");
    assert!(text.contains("plan: looks up in inspection_hive of inspection (hive_id=?)"), "{text}");
    let document = json(&folder.ok(&["trace", "calm", "lazy.database.all.managed", "-q", "--format", "json"]));
    let statements = document["statements"].as_array().unwrap();
    let rows: u64 = statements.iter().map(|statement| statement["rows"].as_u64().unwrap()).sum();
    assert_eq!((document["rows_read"].as_u64().unwrap(), document["rows_needed"].as_u64().unwrap()), (rows, 10));
    assert_eq!(document["shapes"][2]["statements"], 10);
    let once = folder.ok(&["trace", "calm", "computed.database.needed.raw", "-q"]);
    assert!(once.starts_with("calm  computed.database.needed.raw\n1 statement, "), "{once}");
    assert!(!once.contains("N+1"));
}

#[test]
fn a_transaction_around_each_call_is_counted() {
    let folder = Folder::apiary("");
    let document = json(&folder.ok(&["trace", "calm", "batched.database.all.plain+one", "-q", "--format", "json"]));
    let sent: Vec<&str> = document["statements"].as_array().unwrap().iter().map(|statement| statement["sql"].as_str().unwrap()).collect();
    assert_eq!((sent[0], sent.len(), sent[sent.len() - 1]), ("BEGIN", 5, "COMMIT"));
    // As a circumstance of all it was in earlier versions.
    let before = Folder::apiary("[conditions]\ntransaction = true\n");
    assert!(before.error(&["check"], 2).contains("`unit = [\"one\"]` under [contest.….choices]"));
}

#[test]
fn a_new_folder_runs_as_it_is_also_for_somebody_s_schema() {
    let folder = Folder::empty();
    let made = folder.kampf(&["new", "shop"]);
    assert_eq!(
        (made.status, made.stderr.as_str()),
        (0, "made shop: kampf.toml, schema.sql\nnext: cd shop && kampf race   (fills 10,190 rows first)\n")
    );
    assert!(folder.ok(&["check", "-f", "shop/kampf.toml", "-q"]).contains("contenders give this answer"));
    folder.write(
        "app.sql",
        "CREATE TABLE \"order\" (id INTEGER PRIMARY KEY, \"from\" VARCHAR(70), odd HONEYCOMB(3));
         CREATE TABLE meadow (id UUID PRIMARY KEY, title VARCHAR(90) NOT NULL, size DECIMAL(8,2));
         CREATE TABLE visit (id INTEGER PRIMARY KEY, meadow_id UUID NOT NULL REFERENCES meadow, \"by\" INTEGER REFERENCES visit, at TIMESTAMP);
         CREATE TABLE note (id SERIAL, at TIMESTAMPTZ, by_whom INTEGER);
         CREATE TABLE step (visit_id INTEGER NOT NULL REFERENCES visit, no INTEGER NOT NULL, PRIMARY KEY (visit_id, no));
         CREATE TABLE lost (id INTEGER PRIMARY KEY, order_id INTEGER REFERENCES \"order\");",
    );
    let made = folder.kampf(&["new", "mine", "--schema", "app.sql"]);
    assert!(made.stderr.starts_with("the type honeycomb is not known; it is kept as text"), "{}", made.stderr);
    let text = folder.ok(&["check", "-f", "mine/kampf.toml", "-q", "--only", "*database*"]);
    assert_eq!(text.matches("contenders give this answer").count(), 6, "{text}");
    assert!(text.contains("meadow-newest"), "{text}");
    assert!(text.contains("visit-per-month") && text.contains("visit-one"), "the largest table has neither a time nor one key: {text}");
}

#[test]
fn the_demo_has_as_many_rows_as_it_says() {
    let folder = demo();
    let filled = json(&folder.ok(&["fill", "--digest", "--format", "json", "-q"]));
    let rows =
        |name: &str| filled["tables"].as_array().unwrap().iter().find(|table| table["name"] == name).unwrap()["rows"].as_u64().unwrap();
    assert!((1_300..1_600).contains(&rows("hive")) && (50_000..65_000).contains(&rows("inspection")));
}

fn demo() -> Folder {
    let folder = Folder::empty();
    folder.write("kampf.toml", include_str!("../../templates/apiary.toml"));
    folder.write("apiary.sql", include_str!("../../templates/apiary.sql"));
    folder
}

fn contests_agree(folder: &Folder) {
    let text = folder.ok(&["check", "-q", "--only", "*database*", "--only", "*needed*", "--only", "direct*"]);
    assert_eq!(text.matches("contenders give this answer").count(), 21, "{text}");
    assert_eq!(text.matches("contenders leave the tables like this").count(), 7, "{text}");
}

#[test]
fn the_demo_s_contests_agree_over_some_of_its_rows() {
    let folder = demo();
    let mut fewer = folder.read("kampf.toml");
    for (all, some) in [("\"40 per hive\"", "\"10 per hive\""), ("count  = 1_000", "count  = 100")] {
        assert!(fewer.contains(all), "{all} is not there");
        fewer = fewer.replace(all, some);
    }
    folder.write("kampf.toml", fewer);
    contests_agree(&folder);
}

#[test]
#[ignore = "a minute and a half: the same over all rows"]
fn the_demo_s_contests_agree_and_hold_what_they_promise() {
    contests_agree(&demo());
}

#[test]
fn output_is_plain_on_a_pipe_and_coloured_only_when_asked() {
    let folder = Folder::apiary("");
    assert!(!folder.ok(&["show"]).contains('\u{1b}'));
    assert!(folder.ok(&["show", "--color", "always"]).contains('\u{1b}'));
    let traced = without_times(&folder.ok(&["trace", "calm", "computed.database.needed.raw", "-q"]));
    assert!(traced.contains("1 statement, ~"), "{traced}");
    assert_eq!(folder.ok(&["--version"]), format!("kampf {}\n", env!("CARGO_PKG_VERSION")));
}

#[test]
fn what_is_shown_can_be_copied_answers_are_tables_and_differences_say_with_which_parameters() {
    let folder = Folder::apiary(
        "[contest.asked]\nfrom = \"hive\"\ngive = [\"label\", \"frames\", \"inspection order id limit 2 { temper } as some\"]\n\
         where = \"strain_id = :strain and frames in :frames and label <> 'x ?1'\"\norder = [\"id\"]\n[contest.asked.parameters]\n\
         strain = \"any(strain.id)\"\nframes = \"some(hive.frames, 4)\"\n[contest.plain]\nfrom = \"strain\"\ngive = [\"name\", \"count(hive) as hives\"]\n\
         order = [\"name\"]\n[contest.other]\nfrom = \"strain\"\ngive = [\"count(hive) as hives\"]\nwhere = \"id = :strain\"\n\
         [contest.other.parameters]\nstrain = \"any(strain.id)\"\n[contest.other.contender.wrong]\n\
         sql = \"SELECT count(*) + (:strain = 3) FROM hive WHERE strain_id = :strain\"\n",
    );
    let shown = folder.ok(&["show", "asked"]);
    assert!(shown.contains("\"strain_id\" = :strain AND \"hive\".\"frames\" IN (:frames) AND \"hive\".\"label\" <> 'x ?1'"), "{shown}");
    let answer = folder.ok(&["check", "plain", "--answer", "-q"]);
    let lines: Vec<&str> = answer.lines().collect();
    assert!(lines.len() == 6 && lines[0].starts_with("name") && lines[0].ends_with("hives"), "{answer}");
    let answer = folder.ok(&["check", "asked", "--answer", "-q"]);
    assert!(answer.contains("with strain = ") && answer.contains(", frames = ") && answer.contains("  some, "), "{answer}");
    let differs = folder.kampf(&["check", "other"]);
    assert!(differs.status == 1 && differs.stdout.contains("differs wrong, with strain = 3"), "{}", differs.stdout);
    folder.write("kampf.toml", folder.read("kampf.toml").replace("(:strain = 3)", "(?1 = 3)"));
    assert!(folder.error(&["check", "other"], 2).contains("nothing is bound to `?1`"));
    // Own SQL without a need has columns without names.
    let own = "[contest.own.contender.a]\nsql = \"SELECT id, name FROM strain ORDER BY id\"\n[contest.own.contender.b]\nsql = \"SELECT id, name FROM strain ORDER BY id LIMIT 9\"\n";
    folder.write("kampf.toml", folder.read("kampf.toml").split("[contest.asked]").next().unwrap().to_owned() + own);
    let answer = folder.ok(&["check", "own", "--answer", "-q"]);
    assert!(answer.starts_with("column 1  column 2\n1 ") && answer.lines().count() == 6, "{answer}");
    // What ends one row is not `1 rows`, and what was not ordered does not end in anything.
    folder.write("kampf.toml", "schema = \"apiary.sql\"\n[rows]\nhive = 1\nstrain = 1\ninspection = 1\n[contest.one]\nfrom = \"hive\"\ngive = [\"label\"]\nlimit = 1\n");
    assert!(folder.ok(&["show", "one"]).contains("There is no order, and what is cut wants one, so id was added to it."));
    assert!(folder.ok(&["fill", "--preview", "hive"]).starts_with("hive: 1 row\n"));
}
