//! The demo's data is what the generator makes, and holds what the demo needs.
#![allow(
    clippy::unwrap_used,
    clippy::cast_possible_truncation,
    clippy::cast_possible_wrap,
    clippy::cast_sign_loss,
    reason = "a test fails by panicking, and its numbers are small"
)]

use std::path::Path;

#[test]
fn the_data_in_the_repository_is_what_the_generator_makes() {
    let made = tempfile::tempdir().unwrap();
    nut_cellar_yardstick::railway::write_tables(made.path()).unwrap();
    let kept = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../data");
    for name in ["stations.csv", "items.csv", "claims.csv", "queries.tsv", "right.qrels"] {
        let (made, kept) =
            (std::fs::read(made.path().join(name)).unwrap(), std::fs::read(kept.join(name)).unwrap());
        assert!(made == kept, "{name} differs: run `cargo run -p nut-cellar-yardstick -- tables data`");
    }
}

#[test]
fn the_prose_has_word_forms_languages_and_misspellings() {
    let items =
        std::fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../../data/items.csv")).unwrap();
    for word in
        ["umbrella", "Regenschirm", "parapluie", "paraguas", "sateenvarjo", "傘", "brass handle", "café"]
    {
        assert!(items.contains(word), "no {word}");
    }
    assert_eq!(items.lines().count(), 2_501);
}
