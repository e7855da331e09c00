//! The files and directories that the tables of the page on the house name are there.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// All files and directories below one, but for what was built and what is hidden.
fn gather(folder: &Path, all: &mut Vec<PathBuf>) -> io::Result<()> {
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        let name = entry.file_name();
        if name == "target" || name.to_string_lossy().starts_with('.') {
            continue;
        }
        all.push(entry.path());
        if entry.file_type()?.is_dir() {
            gather(&entry.path(), all)?;
        }
    }
    Ok(())
}

/// What is between two backquotes and has the look of a file or a directory.
fn named(row: &str) -> impl Iterator<Item = &str> {
    let is_path =
        |name: &&str| !name.contains(' ') && [".rs", ".md", "/"].iter().any(|end| name.ends_with(end));
    row.split('`').skip(1).step_by(2).filter(is_path)
}

#[test]
fn the_tables_name_files_that_are_there() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let mut all = Vec::new();
    gather(root, &mut all).unwrap();
    let page = fs::read_to_string(root.join("docs/architecture.md")).unwrap();
    let names: Vec<&str> = page.lines().filter(|line| line.starts_with('|')).flat_map(named).collect();
    assert!(names.len() > 100, "{} names only", names.len());
    // `ends_with` compares whole names of files.
    let lost = |name: &&&str| !all.iter().any(|path| path.ends_with(name.trim_end_matches('/')));
    let lost: Vec<_> = names.iter().filter(lost).collect();
    assert!(lost.is_empty(), "docs/architecture.md names what is not there: {lost:?}");
}
