//! `check` and `compact`: looking after a cellar.

use crate::paint::{grouped, size};
use crate::target::Target;
use crate::{arguments, say};
use nut_cellar::{Info, Result};

pub fn check(call: &arguments::Target) -> Result<()> {
    let open = Target::read(&call.target)?.open()?;
    open.check()?;
    let info = open.info()?;
    say(&format!(
        "{}: {} records in {} of {}; every checksum fits, and everything agrees.\n",
        call.target,
        grouped(info.records),
        shelves(&info),
        size(bytes(&info)),
    ))
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
    crate::paint::count(info.shelves as u64, "shelf", "shelves")
}
