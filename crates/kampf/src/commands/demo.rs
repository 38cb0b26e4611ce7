//! `kampf demo`

use std::path::PathBuf;
use std::time::Duration;

use super::new::make_folder;
use super::{Ending, race, say};
use crate::arguments::{Bounds, Demo, Format, General, Race, Selection};
use crate::problem::Problem;

const TOML: &str = include_str!("../../templates/apiary.toml");
const SQL: &str = include_str!("../../templates/apiary.sql");
/// The contests that are raced unless all are asked for.
const CHOSEN: [&str; 3] = ["calmest-hives", "hive-directory", "apiary-sizes"];
/// Time for all contests with their checks, so that the whole takes 40 s.
const TIME: Duration = Duration::from_secs(38);
const TIME_OF_ALL: Duration = Duration::from_secs(220);

pub(super) fn run(general: &General, arguments: &Demo) -> Result<Ending, Problem> {
    let dir = &arguments.dir;
    let file: PathBuf = dir.join("kampf.toml");
    if file.exists() {
        say(general.quiet, &format!("{} is there already; running it as it is", dir.display()));
    } else {
        make_folder(dir, &[("kampf.toml", TOML), ("apiary.sql", SQL)])?;
        let contests = TOML.lines().filter(|line| line.starts_with("[contest.") && line.matches('.').count() == 1).count();
        say(general.quiet, &format!("made {}: a network of apiaries with some 1,500 hives, and {contests} contests", dir.display()));
    }
    // In a folder that is there already they may have been taken out.
    let text = std::fs::read_to_string(&file).unwrap_or_default();
    let is_there = |name: &&&str| text.lines().any(|line| line.trim() == format!("[contest.{name}]"));
    let chosen = CHOSEN.iter().filter(is_there).map(|name| (*name).to_owned());
    let contests: Vec<String> = if arguments.everything { Vec::new() } else { chosen.collect() };
    let time = if arguments.everything { TIME_OF_ALL } else { TIME };
    let general = General { file, ..general.clone() };
    let race = Race {
        disturbed: false,
        contests,
        time: Some(time),
        together: Some(time),
        rounds: 400,
        margin: None,
        exact: false,
        pair: Vec::new(),
        seed: None,
        round_trip: Vec::new(),
        pin: false,
        require: false,
        self_test: false,
        races: 0,
        selection: Selection::default(),
        bounds: Bounds { timeout: Duration::from_secs(30), memory_limit: None },
    };
    let ending = race::run(&general, &race)?;
    if general.format == Format::Text {
        let dir = dir.display();
        say(general.quiet, &format!("everything is in {dir}: edit kampf.toml there and run `kampf race` again, or look closer with"));
        say(general.quiet, &format!("  cd {dir}; kampf show calmest-hives; kampf trace calmest-hives lazy.database.all.managed"));
    }
    Ok(ending)
}
