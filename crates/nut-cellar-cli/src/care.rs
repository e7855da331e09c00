//! `check`, `repair` and `compact`: looking after a cellar.

use crate::adopt::read_schema;
use crate::paint::{clean, count, grouped, size};
use crate::target::Target;
use crate::{arguments, say};
use nut_cellar::rows::Repaired;
use nut_cellar::{Difference, Error, ErrorKind, Info, Key, Result};

pub fn check(call: &arguments::Target) -> Result<()> {
    let open = Target::read(&call.target)?.open()?;
    open.check()?;
    let differences = open.differences()?;
    let info = open.info()?;
    let rows = if differences.is_some() { ", with the rows, too" } else { "" };
    match differences.unwrap_or_default().as_slice() {
        [] => say(&format!(
            "{}: {} records in {} of {}; every checksum fits, and everything agrees{rows}.\n",
            call.target,
            grouped(info.records),
            shelves(&info),
            size(bytes(&info)),
        )),
        differences => {
            say(&told(differences))?;
            Err(Error::new(
                ErrorKind::OutOfStep,
                format!(
                    "{} from the rows, whose changes no trigger saw; see docs/databases.md for how that comes about, and run \
                     `repair` to read them again.",
                    count(differences.len() as u64, "record differs", "records differ")
                ),
            ))
        }
    }
}

pub fn repair(call: &arguments::Repair) -> Result<()> {
    let schema = call.schema.as_deref().map(read_schema).transpose()?;
    let Repaired { records, rebuilt, .. } = Target::database(&call.target)?.repair(schema.as_ref())?;
    if rebuilt {
        crate::tell(format_args!(
            "The cellar was damaged or its triggers were gone; all rows were read again."
        ));
        return Ok(());
    }
    say(&told(&records))?;
    crate::tell(format_args!("{} read again.", count(records.len() as u64, "row was", "rows were")));
    Ok(())
}

pub fn touch(call: &arguments::Touch) -> Result<()> {
    Target::database(&call.target)?.touch(&call.keys)?;
    crate::tell(format_args!(
        "{} will be read again by the next search.",
        count(call.keys.len() as u64, "row", "rows")
    ));
    Ok(())
}

/// The most differences that are shown.
const SHOWN: usize = 20;

/// The differences, a line each.
fn told(differences: &[(Key, Difference)]) -> String {
    let mut lines: Vec<_> = differences
        .iter()
        .take(SHOWN)
        .map(|(key, difference)| {
            let what = match difference {
                Difference::Missing => "has a row that is not found",
                Difference::Surplus => "is found, and has no row",
                Difference::Altered => "is found as its row was before",
                _ => "differs from its row",
            };
            format!("{} {what}\n", clean(&key.to_string()))
        })
        .collect();
    let more = differences.len().saturating_sub(SHOWN);
    if more > 0 {
        lines.push(format!("… and {more} more\n"));
    }
    lines.concat()
}

pub fn compact(call: &arguments::Target) -> Result<()> {
    let open = Target::read(&call.target)?.open()?;
    let before = open.info()?;
    open.compact()?;
    let after = open.info()?;
    let told = |info: &Info| format!("{} of {}", shelves(info), size(bytes(info)));
    say(&format!("{}: {} became {}.\n", call.target, told(&before), told(&after)))
}

fn bytes(info: &Info) -> u64 {
    info.bytes.iter().map(|(_, bytes)| bytes).sum()
}

fn shelves(info: &Info) -> String {
    count(info.shelves as u64, "shelf", "shelves")
}
