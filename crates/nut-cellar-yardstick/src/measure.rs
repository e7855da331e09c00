//! What several measurements have in common.

use hashbrown::HashMap;
use std::error::Error;
use std::fs;
use std::time::Duration;

/// Counts the words of a text: what anybody writes first.
pub fn word_count(counts: &mut HashMap<String, u32>, text: &str) {
    for word in text.split(|c: char| !c.is_alphanumeric()).filter(|word| !word.is_empty()) {
        *counts.entry(word.to_lowercase()).or_default() += 1;
    }
}

/// The middle one of some times; none is zero.
pub fn median(mut times: Vec<Duration>) -> Duration {
    times.sort_unstable();
    times.get(times.len() / 2).copied().unwrap_or_default()
}

/// What `work` gives, and the most memory, in bytes, that the process had in use meanwhile, beyond what it had before. Known
/// where the system has `/proc` (Linux); 0 elsewhere.
///
/// # Errors
/// If what the system says can't be read.
pub fn peak_memory<T>(work: impl FnOnce() -> T) -> Result<(T, u64), Box<dyn Error>> {
    if !cfg!(target_os = "linux") {
        return Ok((work(), 0));
    }
    // Sets the peak to what is in use now.
    fs::write("/proc/self/clear_refs", "5")?;
    let before = status("VmRSS:")?;
    let done = work();
    Ok((done, status("VmHWM:")?.saturating_sub(before)))
}

fn status(name: &str) -> Result<u64, Box<dyn Error>> {
    let all = fs::read_to_string("/proc/self/status")?;
    let line = all.lines().find_map(|line| line.strip_prefix(name)).ok_or("the system does not say it")?;
    let kilobytes: u64 = line.trim().trim_end_matches("kB").trim().parse()?;
    Ok(kilobytes * 1024)
}
