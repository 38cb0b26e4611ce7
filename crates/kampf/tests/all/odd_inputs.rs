//! Whatever stands in a command line, a kampf.toml or a saved result is understood or refused with words. `KAMPF_CASES=1000000` tries
//! as many.

use crate::common::made::{contest, document, field, with};
use kampf::odd_inputs::{command_line, project_file, saved_result};
use kampf_mangle::{Mangler, cases, try_all};
use serde_json::json;

#[test]
fn any_command_line_is_understood_or_refused() {
    let corpus = [
        "race calmest-hives --time 5s --margin 5% --rounds 400 --seed 7 --timeout 30s --memory-limit 1GiB -q",
        "race --pair one,other --exact --format json --engine all --round-trip 1ms,5ms",
        "race --self-test --races 3 --only computed.* --all --no-programs --pin",
        "fill --preview hive --engine sqlite -f kampf.toml",
        "check x y --answer --color never",
        "compare old new --allow 3% --chosen --strict",
        "new folder --schema a.sql -v",
        "show --words",
    ];
    let words = [
        "--time",
        "--timeout",
        "-q",
        "-f",
        "--",
        "--format",
        "json",
        "99999999999999999999s",
        "0%",
        "1e9s",
        "--margin=-1%",
        "--rounds",
        "-v",
        "--help",
        "=",
        "--x",
    ];
    let taken = try_all(Mangler::new(&corpus, &words, 6).take(cases(1_000)), |text| {
        command_line(&text.split(' ').filter(|word| !word.is_empty()).map(str::to_owned).collect::<Vec<_>>())
    });
    assert!(taken > 0);
}

#[test]
fn any_project_file_is_understood_or_refused() {
    let corpus = [
        crate::common::TOML,
        "schema = [\"a.sql\", \"b.sql\"]\ndialect = \"postgres\"\nseed = 18446744073709551615\n[types]\ngeometry = \"text\"\n[engine]\nname = \"sqlite\"\n\
         [engine.settings]\ncache_size = -2000\n[conditions]\nhit_rate = \"50 %\"\npin = false\nround_trip = [\"0\", \"1ms\"]\n[values]\n\"hive.label\" = \"text(8)\"\n",
        "schema = \"a.sql\"\n[contest.x]\nabout = \"what for\"\nfrom = \"hive\"\ngive = [\"label\"]\nwhere = \"frames > :n\"\norder = [\"label\"]\nlimit = 10\nkeeps = \"nothing\"\n\
         parameters = { n = 7 }\n[contest.x.require]\np95 = \"5ms\"\nmemory = \"1 MiB\"\nstatements = 3\n[contest.x.contender.own]\nsql = \"select 1\"\nhydration = \"raw\"\n\
         [contest.x.contender.program]\ncommand = [\"python3\", \"x.py\"]\nenvironment = [\"HOME\"]\n[contest.x.contender.two]\nsql.postgres = \"select 1\"\nsql.sqlite = \"select 2\"\n",
    ];
    let words = [
        "[contest.x]",
        "[[contest]]",
        "limit = ",
        "= {}",
        "= []",
        "= true",
        "= 1979-05-27T07:32:00Z",
        "= 0x7fffffffffffffff",
        "\"\"\"",
        "'''",
        "give = ",
        "[contest.x.require]",
        "keeps = ",
        "sql = ",
        "\"5 years\"",
        "\"-1ms\"",
        "schema = 7",
        "seed = -1",
    ];
    let taken = try_all(Mangler::new(&corpus, &words, 7).take(cases(4_000)), project_file);
    assert!(taken > 0);
}

#[test]
fn any_saved_result_is_read_or_refused() {
    let mut short = field(10, 0.02);
    short.truncate(4);
    let required = with(contest("calm", short.clone(), 10), "/require", json!({"p95_ns": 20e6, "statements": 100}));
    let mut resting = short;
    resting[1]["ran"] = json!([[1, 4], [5, 10]]);
    resting[2]["outcome"] = json!("failed");
    let pair = with(contest("two", resting[..2].to_vec(), 10), "/race/pair", json!(["lazy.app.all.managed", "lazy.database.all.managed"]));
    let texts = [required, contest("rests", resting, 10), pair].map(|contest| document(vec![contest]).to_string());
    let corpus = texts.each_ref().map(String::as_str);
    let words = [
        "null",
        "[]",
        "{}",
        "true",
        "\"managed\"",
        "\"rounds\":",
        "\"ran\":[[1,",
        "-1",
        "1e308",
        "\"failed\"",
        "\"disagrees\"",
        "\"not_believed\"",
        "\"p95_ns\":",
        "\"pair\":[\"a\",\"a\"],",
        "\"rounds\":100000,",
        "\"margin\":1e-300,",
        "\"alpha\":1e-320,",
        "\"counted_range\":{\"rows\":{\"least\":9,\"most\":1}},",
    ];
    let taken = try_all(Mangler::new(&corpus, &words, 8).take(cases(1_000)), saved_result);
    assert!(taken > 0);
}
