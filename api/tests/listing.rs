//! `docs/api/` is the public API as it is.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use nut_cellar_api::listing;
use std::fs;
use std::path::Path;

/// The packages that programs depend on, with all features that add names for them.
const PACKAGES: [(&str, &str); 2] =
    [("nut-cellar-core", "chrono,time"), ("nut-cellar", "chrono,deadpool,derive,sqlite-functions,time")];

#[test]
fn the_public_api_is_the_one_that_is_listed() {
    let mut changed = Vec::new();
    for (package, features) in PACKAGES {
        let file = Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("../docs/api/{package}.txt"));
        let listed = listing(package, features).unwrap();
        assert!(!listed.contains("Executor"), "what is for tests is a feature that is not asked for");
        let kept = fs::read_to_string(&file).unwrap_or_default();
        if kept != listed {
            let of_one = |one: &str, other: &str, sign| -> Vec<String> {
                let lines = one.lines().filter(|line| !other.lines().any(|known| known == *line));
                lines.map(|line| format!("{sign} {line}")).collect()
            };
            changed.extend(of_one(&kept, &listed, '-'));
            changed.extend(of_one(&listed, &kept, '+'));
            fs::write(&file, listed).unwrap();
        }
    }
    assert!(
        changed.is_empty(),
        "The public API has changed. docs/api/ says so now; if that was meant, commit it, with a line in the CHANGELOG.\n{}",
        changed.join("\n")
    );
}
