//! `why`: how the score of a record comes about, or why it was not found.

use crate::paint::{self, FAINT, HEAD};
use crate::settings;
use crate::target::{Target, meant};
use crate::{arguments, say};
use nut_cellar::request::Prepared;
use nut_cellar::search::{Reason, Reckoning, Why};
use nut_cellar::{Key, Note, Result};
use serde::Serialize;
use std::fmt::Write;

#[derive(Serialize)]
struct Answer<'a> {
    key: &'a Key,
    query: String,
    why: &'a Why,
    /// What reading the query noted: as sentences, and as data.
    notes: Vec<String>,
    noted: Vec<Note>,
}

pub fn run(call: &arguments::Why) -> Result<()> {
    let open = Target::read(&call.target)?.open()?;
    let Prepared { query, find, notes, .. } = settings::read(&call.query, &call.settings, open.schema())?;
    let (key, why) = ask(&call.key, open.schema().key_columns().len(), |key| open.why(&query, &find, key))?;
    if call.json {
        let sentences = notes.iter().map(ToString::to_string).collect();
        let answer =
            Answer { key: &key, query: query.to_string(), why: &why, notes: sentences, noted: notes };
        return crate::say_json(&answer);
    }
    for note in notes {
        crate::tell(format_args!("{note}"));
    }
    let shown = paint::clean(&key.to_string());
    say(&match &why {
        Why::Found(reckoning) => found(&shown, reckoning),
        Why::NotFound(reasons) => not_found(&shown, reasons),
        _ => format!("There is no record {shown}.\n"),
    })
}

/// Asks for the first of the keys that a text may mean for which there is a record, or for the last of them.
fn ask(text: &str, columns: usize, why: impl Fn(&Key) -> Result<Why>) -> Result<(Key, Why)> {
    let mut asked = (Key::from(text), Why::NoRecord);
    for key in meant(text, columns) {
        let answer = why(&key)?;
        asked = (key, answer);
        if asked.1 != Why::NoRecord {
            break;
        }
    }
    Ok(asked)
}

fn found(key: &str, reckoning: &Reckoning) -> String {
    let mut out = String::new();
    let rank = reckoning.rank.map_or(String::new(), |rank| format!(", number {rank} of all"));
    let _ = writeln!(out, "{HEAD}{key}{HEAD:#} scores {:.4}{rank}.", reckoning.score);
    if let Some((ahead, score)) = &reckoning.ahead {
        let _ = writeln!(out, "Before it comes {} with {score:.4}.", paint::clean(&ahead.to_string()));
    }
    for word in &reckoning.words {
        let times = if word.times == 1 { String::new() } else { format!(" × {} as typed", word.times) };
        let _ = writeln!(
            out,
            "\n{:>10.4}  {HEAD}{}{HEAD:#}{times}: {} of {} have it, rarity {:.4}; frequency {:.4}",
            word.part * word.times as f32,
            paint::clean(&word.word),
            paint::grouped(word.records),
            paint::count(reckoning.records, "record", "records"),
            word.idf,
            word.frequency,
        );
        for term in &word.terms {
            let alike = if (term.likeness - 1.0).abs() < f32::EPSILON {
                String::new()
            } else {
                format!(" × {} as it is only alike", term.likeness)
            };
            let _ = writeln!(out, "            {}{alike}", paint::marked(&paint::clean(&term.term)));
            for column in &term.columns {
                let differs = column.b.to_bits() != reckoning.b.to_bits();
                let own_b = if differs { format!(", b {}", column.b) } else { String::new() };
                let _ = writeln!(
                    out,
                    "              {:.4}  {}: {} in {} words (mean {:.1}), weight {}{own_b}",
                    column.share,
                    column.column,
                    times_said(column.tf),
                    column.length,
                    column.average_length,
                    column.weight,
                );
            }
        }
    }
    if let Some(near) = reckoning.proximity {
        let _ = writeln!(
            out,
            "\n{:>10.4}  {HEAD}nearness{HEAD:#}: two of the words are {} apart, weight {}",
            near.part,
            paint::count(near.distance.into(), "place", "places"),
            near.weight
        );
    }
    let _ = writeln!(out, "{:>10}", "──────");
    let _ = writeln!(out, "{:>10.4}", reckoning.score);
    let _ = writeln!(
        out,
        "{FAINT}A word brings rarity × (k1 + 1) / (1 + k1 / frequency), with k1 = {} and b = {}.{FAINT:#}",
        reckoning.k1, reckoning.b
    );
    paint::painted(&out)
}

fn times_said(times: u32) -> String {
    match times {
        1 => "once".to_owned(),
        2 => "twice".to_owned(),
        times => format!("{times} times"),
    }
}

fn not_found(key: &str, reasons: &[Reason]) -> String {
    let mut out = format!("{HEAD}{key}{HEAD:#} is not found:\n");
    for reason in reasons {
        say_reason(&mut out, reason, 1);
    }
    out
}

fn say_reason(out: &mut String, reason: &Reason, depth: usize) {
    let indent = "  ".repeat(depth);
    let _ = match reason {
        Reason::Missing { part, elsewhere } if elsewhere.is_empty() => {
            writeln!(out, "{indent}{} is nowhere in it.", paint::clean(part))
        }
        Reason::Missing { part, elsewhere } => {
            writeln!(
                out,
                "{indent}{} is in {}, which was not searched for it.",
                paint::clean(part),
                elsewhere.join(", ")
            )
        }
        Reason::NotLookedAt { part } => {
            writeln!(
                out,
                "{indent}{} stands for more terms than were looked at, and it has none of these; `--most-terms` lets it look at more.",
                paint::clean(part)
            )
        }
        Reason::Excluded { part } => {
            writeln!(out, "{indent}{} is in it, and is not wanted.", paint::clean(part))
        }
        Reason::Value { column, has } if has.is_empty() => {
            writeln!(out, "{indent}It has no {column}, which is compared.")
        }
        Reason::Value { column, has } => {
            let has: Vec<_> = has.iter().map(|value| paint::clean(&value.to_string())).collect();
            writeln!(out, "{indent}Its {column} is {}, which is ruled out.", has.join(", "))
        }
        Reason::TooFew { has, needs, .. } => {
            writeln!(out, "{indent}It has {has} of several parts, and {needs} are needed:")
        }
        _ => writeln!(out, "{indent}There is nothing to look for in the query."),
    };
    if let Reason::TooFew { missing, .. } = reason {
        for reason in missing {
            say_reason(out, reason, depth + 1);
        }
    }
}
