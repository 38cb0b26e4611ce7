//! docs/words.md and others know what the registries know. `KAMPF_UPDATE=1 cargo test -p kampf schema` writes the table of choices anew.

use kampf_contest::{Choice, Measure};
use kampf_verdict::Required;

/// The choices and their options as a table.
fn table() -> String {
    let mut table = "\n| choice | option | in the name | what it is |\n|---|---|---|---|\n".to_owned();
    for choice in Choice::ALL {
        for (at, option) in choice.options().enumerate() {
            let first = if at == 0 { format!("**{}**: {}", choice.word(), choice.entry().about) } else { String::new() };
            let size = if option.entry().has_size { ":N" } else { "" };
            let name = match choice.entry().usual {
                None => format!("`{}`", option.word()),
                Some(usual) if usual == option.rank() => "not named".to_owned(),
                Some(_) if option.entry().is_named => format!("`@{}`", option.word()),
                Some(_) => format!("`+{}{size}`", option.word()),
            };
            table += &format!("| {first} | {} | {name} | {} |\n", option.word(), option.entry().about);
        }
    }
    table
}

#[test]
fn the_table_of_choices_is_that_of_the_registry() {
    const MARKS: (&str, &str) = ("cargo test -p kampf schema -->\n", "<!-- /registry -->");
    let file = format!("{}/../../docs/words.md", env!("CARGO_MANIFEST_DIR"));
    let text = std::fs::read_to_string(&file).expect("it is there");
    let begins = text.find(MARKS.0).expect("the table has a place") + MARKS.0.len();
    let ends = text.find(MARKS.1).expect("it has an end");
    if std::env::var_os("KAMPF_UPDATE").is_some() {
        std::fs::write(&file, format!("{}{}\n{}", &text[..begins], table(), &text[ends..])).expect("it can be written");
        return;
    }
    assert_eq!(text[begins..ends], format!("{}\n", table()), "run KAMPF_UPDATE=1 cargo test -p kampf schema");
}

/// docs/words.md explains every option, docs/protocol.md every count, docs/file-reference.md every requirement.
#[test]
fn every_word_of_the_registries_is_documented() {
    let docs = |name: &str| std::fs::read_to_string(format!("{}/../../docs/{name}", env!("CARGO_MANIFEST_DIR"))).expect(name);
    let (words, protocol, file) = (docs("words.md"), docs("protocol.md"), docs("file-reference.md"));
    for choice in Choice::ALL {
        assert!(words.contains(&format!("## {}: ", choice.word())), "{}", choice.word());
        choice.options().for_each(|option| assert!(words.contains(&format!("**{}** - ", option.word())), "{}", option.word()));
    }
    Measure::ALL.iter().for_each(|measure| assert!(protocol.contains(&format!("`{}`", measure.entry().name)), "{}", measure.entry().name));
    Required::all().for_each(|required| assert!(file.contains(&format!("`{}`", required.key())), "{}", required.key()));
}
