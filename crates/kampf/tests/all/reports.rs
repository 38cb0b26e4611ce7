//! Whatever was measured: the text that the real program shows, the document that it writes and the comparisons that it makes say the
//! same.

use crate::common::made::{FIELD, contender, contest, document, made, with};
use crate::common::{Dice, Folder, json};
use serde_json::{Value as Json, json};
use unicode_width::UnicodeWidthStr;

/// A result by chance: who takes part, how long for, how noisy it is, who rests, leaves or fails, what is required.
fn by_chance(dice: &mut Dice) -> Json {
    let rounds = [1, 3, 9, 16, 40][dice.below(5) as usize];
    let width = [0.001, 0.02, 0.1, 0.5][dice.below(4) as usize];
    let mut contenders: Vec<Json> = Vec::new();
    for (at, one) in FIELD.iter().enumerate().filter(|_| dice.below(3) > 0).collect::<Vec<_>>() {
        let scale = [1.0, 1e-5, 1e3][dice.below(3) as usize / 2 * 2];
        let mut made = contender(at, made(one.name, one.time * scale, one.statements, one.sql), rounds, width);
        let cut = |made: &mut Json, rounds: usize| {
            for field in ["rounds", "p95_rounds"] {
                made[field].as_array_mut().unwrap().truncate(rounds);
            }
        };
        match dice.below(9) {
            0 => (made["outcome"], made["reason"]) = (json!("failed"), json!("no such table: hive\u{1b}[31m\u{7}\nForged: this line")),
            1 => (made["outcome"], made["reason"]) = (json!("disagrees"), json!("it gave another answer")),
            2 if rounds > 9 => cut(&mut made, 9),
            3 => {
                (made["in_check_ns"], made["ran"]) = (json!(made["rounds"][0].as_f64().unwrap() * 40.0), json!([]));
                cut(&mut made, 0);
            }
            4 if rounds > 20 => {
                cut(&mut made, 25);
                made["ran"] = json!([[1, 20], [rounds - 4, rounds]]);
            }
            _ => {}
        }
        contenders.push(made);
    }
    let mut made = contest("calmest-hives", contenders, rounds);
    if dice.below(3) == 0 {
        let limit = [1e6, 10.2e6, 1e9][dice.below(3) as usize];
        let requires = [json!({"p95_ns": limit}), json!({"statements": 3}), json!({"median_ns": limit, "memory_bytes": 9_000})];
        made = with(made, "/require", requires[dice.below(3) as usize].clone());
    }
    for (pointer, odds, value) in [
        ("/race/keeps_nothing", 4, json!(true)),
        ("/race/interrupted", 4, json!(true)),
        ("/race/exact", 4, json!(true)),
        ("/race/margin", 4, json!(0.004)),
        ("/race/cpu_pressure", 3, json!(37.0)),
        ("/conditions/round_trip_ns", 4, json!(500_000)),
    ] {
        if dice.below(odds) == 0 {
            made = with(made, pointer, value);
        }
    }
    document(vec![made])
}

fn shown(folder: &Folder, width: usize) -> String {
    let output = folder.command(&["results", "result.json"]).env("COLUMNS", width.to_string()).output().expect("kampf runs");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).expect("text")
}

/// Nanoseconds of the first duration in a text, like `38.2 ms`.
fn first_duration(text: &str) -> Option<f64> {
    let words: Vec<&str> = text.split_whitespace().collect();
    words.windows(2).find_map(|pair| {
        let unit = match pair[1] {
            "ns" => 1.0,
            "us" => 1e3,
            "ms" => 1e6,
            "s" => 1e9,
            _ => return None,
        };
        Some(pair[0].parse::<f64>().ok()? * unit)
    })
}

fn flowing(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// What stands in the widest text is what stands in the document.
fn says_what_the_document_says(text: &str, document: &Json) {
    let contest = &document["contests"][0];
    let contenders = contest["contenders"].as_array().unwrap();
    let table: Vec<&str> = text.lines().skip_while(|line| !line.starts_with("contender")).take_while(|line| !line.is_empty()).collect();
    let timed = contenders.iter().filter(|one| !one["latency_ns"]["shown"].is_null());
    for (place, one) in timed.enumerate() {
        let (name, line) = (one["name"].as_str().unwrap(), table[place + 1]);
        assert!(line.split_whitespace().next() == Some(name), "{name} is not in its place: {line}\n{text}");
        let (told, known) = (first_duration(line).expect(line), one["latency_ns"]["shown"].as_f64().unwrap());
        assert!((told / known - 1.0).abs() < 0.006, "{name}: {told} is told of {known}\n{text}");
        let is_floor = one["beside"] == "floor" && !["failed", "disagrees"].contains(&one["outcome"].as_str().unwrap());
        assert_eq!(line.contains(" floor "), is_floor, "{line}");
    }
    let flowing = flowing(text);
    let verdict = &contest["verdict"];
    let end = verdict["end"].as_str().unwrap();
    match verdict["choose"].as_str() {
        Some(name) if end == "alone" => assert!(flowing.contains(&format!("{name} takes ")), "{text}"),
        Some(name) => assert!(flowing.contains(&format!("Take {name}")), "{name}: {text}"),
        None => assert!(!flowing.contains("Take "), "{text}"),
    }
    assert_eq!(flowing.contains("Nothing could be raced."), end == "nothing", "{text}");
    if verdict["decided"] == true && verdict["requirements_met"].is_null() {
        assert!(!flowing.contains("Not decided") && !flowing.contains("more rounds"), "{text}");
    }
    for one in verdict["by_choice"].as_array().into_iter().flatten() {
        let start = format!("  {}", one["choice"].as_str().unwrap());
        let line = text.lines().skip_while(|line| *line != "By choice").find(|line| line.starts_with(&start)).expect(text);
        match one["end"].as_str().unwrap() {
            "decided" => assert!(line.contains(&format!("{}, decided:", one["option"].as_str().unwrap())), "{line}"),
            "no_difference" => assert!(line.contains("makes no difference"), "{line}"),
            "open" => assert!(line.contains(" so far:"), "{line}"),
            _ => assert!(line.contains(&format!(" {}:", one["option"].as_str().unwrap())), "{line}"),
        }
    }
}

/// The legend is about columns that stand in the table of that width.
fn explains_only_what_it_shows(text: &str) {
    let head = text.lines().find(|line| line.starts_with("contender")).unwrap_or_default();
    let flowing = flowing(text);
    for (said, column) in [
        ("Times are compared within rounds", "a call takes"),
        ("Trips are what a server would need", "trips"),
        ("Base: the others count from it", "behind"),
        ("Memory of programs is", "held at most"),
        ("Statements, trips, rows and bytes are the same", "statements"),
    ] {
        assert!(!flowing.contains(said) || head.contains(column), "{said}: {text}");
    }
}

#[test]
fn text_and_document_say_the_same_whatever_was_measured() {
    let folder = Folder::empty();
    let mut dice = Dice::new(11);
    for _ in 0..150 {
        let result = by_chance(&mut dice);
        folder.write("result.json", result.to_string());
        let wide = shown(&folder, 300);
        let narrow_width = 50 + dice.below(150) as usize;
        let narrow = shown(&folder, narrow_width);
        for (text, width) in [(&wide, 300), (&narrow, narrow_width)] {
            explains_only_what_it_shows(text);
            for line in text.lines() {
                assert!(line.width() <= width, "{} columns, where there are {width}: {line}\n{result}", line.width());
                assert!(!line.chars().any(char::is_control), "{line:?}");
                let odd = ["NaN", "inf ", " 1 others", "-0.0", " x0", "None", "  ,", " ;"].into_iter().find(|odd| line.contains(odd));
                assert!(!line.starts_with("Forged"), "{text}");
                assert!(odd.is_none(), "{odd:?} in {line}\n{result}");
            }
        }
        let document = folder.ok(&["results", "result.json", "--format", "json"]);
        says_what_the_document_says(&wide, &json(&document));
        folder.write("again.json", &document);
        let again = folder.ok(&["results", "again.json", "--format", "json"]);
        let differs = again.lines().zip(document.lines()).find(|(again, before)| again != before);
        assert!(differs.is_none() && again.len() == document.len(), "it is not read back as it was written: {differs:?}");
    }
}

#[test]
fn what_a_choice_says_is_what_the_table_says_and_no_cost_is_below_nothing() {
    let folder = Folder::empty();
    let mut dice = Dice::new(12);
    for _ in 0..100 {
        let result = by_chance(&mut dice);
        folder.write("result.json", result.to_string());
        let document = json(&folder.ok(&["results", "result.json", "--format", "json"]));
        let contest = &document["contests"][0];
        let find = |name: &Json| contest["contenders"].as_array().unwrap().iter().find(|one| one["name"] == *name).expect("it took part");
        for one in contest["verdict"]["by_choice"].as_array().into_iter().flatten() {
            assert_eq!(find(&one["contender"])["choices"][one["choice"].as_str().unwrap()], one["option"], "{one}");
            for other in one["others"].as_array().unwrap() {
                let contender = find(&other["contender"]);
                assert_eq!(contender["choices"][one["choice"].as_str().unwrap()], other["option"], "{other}");
                assert!(!["failed", "disagrees"].contains(&contender["outcome"].as_str().unwrap()), "{other}");
                for bound in ["at_most", "at_least"] {
                    assert!(other[bound].as_f64().is_none_or(|ratio| ratio >= 1.0 - 1e-9), "{other}");
                }
            }
        }
        // The ladder goes from one contender to the next, and its figures are the table's.
        for step in contest["mattered"]["ladder"].as_array().unwrap() {
            for (name, figure) in [("from", "before_ns"), ("to", "after_ns")] {
                assert_eq!(find(&step[name])["latency_ns"]["shown"], step[figure], "{step}");
            }
        }
    }
}

#[test]
fn a_comparison_is_the_same_from_both_sides_and_of_one_with_itself_nothing_moved() {
    let folder = Folder::empty();
    let mut dice = Dice::new(13);
    let (mut told, mut swapped) = (0, 0);
    for _ in 0..60 {
        let (old, new) = (by_chance(&mut dice), by_chance(&mut dice));
        folder.write("old.json", old.to_string());
        folder.write("new.json", new.to_string());
        let compare = |one: &str, other: &str| {
            let ended = folder.kampf(&["compare", one, other, "--format", "json", "-q"]);
            (ended.status, if ended.stdout.is_empty() { Json::Null } else { json(&ended.stdout) })
        };
        let (status, itself) = compare("old.json", "old.json");
        for one in itself["contests"][0]["contenders"].as_array().into_iter().flatten() {
            assert!(one["time"] != "moved" && one["worse"] == json!([]) && one["counts"] == json!([]), "{one}");
            told += u64::from(one["time"] == "stood still");
        }
        assert!(status == 0 || itself.is_null(), "{itself}");
        let ((_, forth), (_, back)) = (compare("old.json", "new.json"), compare("new.json", "old.json"));
        let find = |name: &Json| back["contests"][0]["contenders"].as_array().unwrap().iter().find(|one| one["name"] == *name).cloned();
        for one in forth["contests"][0]["contenders"].as_array().into_iter().flatten() {
            let other = find(&one["name"]).expect("it is there from both sides");
            assert_eq!((&one["before_ns"], &one["after_ns"]), (&other["after_ns"], &other["before_ns"]));
            if let (Some(ratio), Some(inverse)) = (one["ratio"].as_f64(), other["ratio"].as_f64()) {
                assert!((ratio * inverse - 1.0).abs() < 1e-9, "{one} {other}");
                swapped += 1;
            }
            // Worse on one side is never worse on the other by time.
            let slower = |one: &Json| one["worse"].to_string().contains("slower");
            assert!(!(slower(one) && slower(&other)), "{one} {other}");
        }
    }
    assert!(told > 20 && swapped > 20, "{told} times stood still, {swapped} were compared from both sides: too few to show anything");
}
