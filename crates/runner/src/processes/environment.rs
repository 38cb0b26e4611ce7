//! What contenders get of the user's environment: what programs need to run, and nothing that may hold a secret.

use std::ffi::{OsStr, OsString};

use kampf_engine::is_variable_of_driver;

/// Variables that every contender gets.
const KEPT: [&str; 16] = [
    "PATH",
    "HOME",
    "USER",
    "LOGNAME",
    "SHELL",
    "LANG",
    "LANGUAGE",
    "TZ",
    "TMPDIR",
    "VIRTUAL_ENV",
    "SSL_CERT_FILE",
    "SSL_CERT_DIR",
    "RUST_BACKTRACE",
    "NODE_ENV",
    "GOROOT",
    "DOTNET_ROOT",
];

/// Whether a variable is passed on: one that programs find their own parts or their language by.
fn is_kept(name: &OsStr) -> bool {
    let Some(name) = name.to_str() else { return false };
    KEPT.contains(&name) || name.starts_with("LC_") || name.ends_with("_HOME") || (name.ends_with("PATH") && !is_variable_of_driver(name))
}

/// Of an environment what a contender gets, with the variables that its owner names besides.
pub(crate) fn cleaned(environment: impl Iterator<Item = (OsString, OsString)>, besides: &[String]) -> Vec<(OsString, OsString)> {
    environment.filter(|(name, _)| is_kept(name) || besides.iter().any(|besides| name == besides.as_str())).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn secrets_stay_behind_and_what_programs_need_comes_along() {
        let names = ["PATH", "JAVA_HOME", "PYTHONPATH", "LC_ALL", "PGPASSWORD", "PGPASSFILE", "DATABASE_URL", "API_TOKEN", "MINE"];
        let environment = names.map(|name| (OsString::from(name), OsString::from("x")));
        let left: Vec<OsString> = cleaned(environment.into_iter(), &["MINE".to_owned()]).into_iter().map(|(name, _)| name).collect();
        assert_eq!(left, ["PATH", "JAVA_HOME", "PYTHONPATH", "LC_ALL", "MINE"]);
    }
}
