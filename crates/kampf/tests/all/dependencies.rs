//! The direction of dependency: nothing below knows anything above it, and the core knows no driver, terminal or clock.

use std::process::Command;

use serde_json::Value as Json;

/// A crate, what it may depend on among ours, and for the core the packages from elsewhere.
type Allowed = (&'static str, &'static [&'static str], Option<&'static [&'static str]>);

const ALLOWED: [Allowed; 12] = [
    ("kampf-schema", &[], Some(&["regex", "serde", "sqlparser", "strsim", "uuid", "winnow"])),
    ("kampf-fill", &["kampf-schema"], Some(&["libm", "regex-syntax", "serde"])),
    ("kampf-doubt", &["kampf-schema", "kampf-fill"], Some(&[])),
    ("kampf-contest", &["kampf-schema"], Some(&["serde", "serde_json"])),
    ("kampf-race", &[], Some(&["statrs"])),
    ("kampf-verdict", &["kampf-contest", "kampf-race"], Some(&[])),
    ("kampf-result", &["kampf-contest", "kampf-race", "kampf-verdict"], Some(&["serde", "serde_json"])),
    ("kampf-protocol", &[], Some(&["serde", "serde_json"])),
    // Of tests alone.
    ("kampf-mangle", &[], Some(&["proptest"])),
    ("kampf-engine", &["kampf-schema", "kampf-fill", "kampf-contest"], None),
    ("kampf-runner", &["kampf-schema", "kampf-fill", "kampf-contest", "kampf-race", "kampf-protocol", "kampf-engine"], None),
    (
        "kampf",
        &[
            "kampf-schema",
            "kampf-fill",
            "kampf-doubt",
            "kampf-contest",
            "kampf-race",
            "kampf-verdict",
            "kampf-result",
            "kampf-protocol",
            "kampf-engine",
            "kampf-runner",
        ],
        None,
    ),
];

#[test]
fn no_dependency_runs_the_wrong_way() {
    let cargo = option_env!("CARGO").unwrap_or("cargo");
    let output = Command::new(cargo)
        .args([
            "metadata",
            "--no-deps",
            "--offline",
            "--format-version",
            "1",
            "--manifest-path",
            concat!(env!("CARGO_MANIFEST_DIR"), "/Cargo.toml"),
        ])
        .output()
        .expect("cargo runs");
    let metadata: Json = serde_json::from_slice(&output.stdout).expect("cargo metadata prints JSON");
    let packages = metadata["packages"].as_array().expect("packages");
    assert_eq!(packages.len(), ALLOWED.len(), "a new crate needs a line here and in docs/architecture.md");
    for package in packages {
        let name = package["name"].as_str().unwrap();
        let (_, ours, others) = ALLOWED.iter().find(|(known, ..)| *known == name).unwrap_or_else(|| panic!("{name} has no line here"));
        for dependency in package["dependencies"].as_array().unwrap() {
            if dependency["kind"] == "dev" {
                continue;
            }
            let wanted = dependency["name"].as_str().unwrap();
            let is_ours = wanted.starts_with("kampf");
            let allowed = if is_ours { ours.contains(&wanted) } else { others.is_none_or(|others| others.contains(&wanted)) };
            assert!(allowed, "{name} must not depend on {wanted}");
        }
    }
}
