//! What the crates give to programs, as text: one line for each thing.

use public_api::Builder;
use std::env;
use std::error::Error;
use std::path::Path;
use std::process::Command;

/// The public API of a package of this workspace with these features and no others, in a lasting order. Traits that follow of
/// themselves, and those that are derived, are left out.
///
/// The compiler's documentation tool lists it, in a form that is not stable yet, hence the environment's permission. What it needs is
/// built in a directory of its own, for that permission makes other builds begin anew.
///
/// # Errors
/// If the package can't be compiled, or the form is another than the one that is read here.
pub fn listing(package: &str, features: &str) -> Result<String, Box<dyn Error>> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let target = root.join("target").join("api");
    let mut rustdoc = Command::new(env::var_os("CARGO").unwrap_or("cargo".into()));
    rustdoc.current_dir(&root).env("RUSTC_BOOTSTRAP", "1").env_remove("RUSTDOCFLAGS").env_remove("RUSTFLAGS");
    rustdoc.args(["rustdoc", "--quiet", "--locked", "--lib", "--package", package]);
    rustdoc.args(["--no-default-features", "--features", features, "--target-dir"]).arg(&target);
    rustdoc.args(["--", "-Z", "unstable-options", "--output-format", "json", "--cap-lints", "allow"]);
    let done = rustdoc.output()?;
    if !done.status.success() {
        return Err(String::from_utf8_lossy(&done.stderr).into());
    }
    let json = target.join("doc").join(package.replace('-', "_")).with_extension("json");
    let api = Builder::from_rustdoc_json(json)
        .omit_blanket_impls(true)
        .omit_auto_trait_impls(true)
        .omit_auto_derived_impls(true)
        .build()?;
    let lines: Vec<_> = api.items().map(ToString::to_string).collect();
    Ok(lines.join("\n") + "\n")
}
