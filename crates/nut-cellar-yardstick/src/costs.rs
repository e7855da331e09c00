//! What the dearest queries cost that somebody may type into a box: 4 KiB of them, made to go through as much as they can.

use crate::records;
use crate::searching::shelf_of;
use nut_cellar::lenient::Suggest;
use nut_cellar::search::{Order, Spellings, Total};
use nut_cellar::text::Pattern;
use nut_cellar::{Beginnings, Find, Memory, Query, Snapshot, Words, lenient};
use serde::Serialize;
use std::error::Error;
use std::hint::black_box;
use std::time::Instant;

type Failure = Box<dyn Error>;

/// The longest query, in bytes.
const LONGEST: usize = 4_096;
/// Each is timed so often; the least time counts.
const TIMES: usize = 5;

/// What a query cost.
#[derive(Debug, Serialize)]
pub struct Cost {
    /// What it is made of.
    pub query: &'static str,
    /// By what is asked of the search, in milliseconds.
    pub ms: Vec<(&'static str, f64)>,
}

/// Measures each of the queries on a shelf of so many generated records, in each of the ways in which a search may be asked.
///
/// # Errors
/// If the shelf can't be read.
pub fn measure(count: u64, only: Option<&str>) -> Result<Vec<Cost>, Failure> {
    let texts = (1..=count).map(|id| records::item(id, 1)).map(|item| (item.title, item.description));
    let (place, snapshot) = shelf_of(&texts.collect::<Vec<_>>(), "none", 2)?;
    let mut terms = snapshot.terms(&place.view(), &Pattern::new("*")?, usize::MAX)?.terms;
    terms.sort_by(|a, b| b.records.cmp(&a.records).then_with(|| a.term.cmp(&b.term)));
    let terms: Vec<_> = terms.into_iter().map(|term| term.term).collect();
    let wanted = queries(&terms).into_iter().filter(|(name, _)| only.is_none_or(|only| name.contains(only)));
    wanted.map(|(query, text)| Ok(Cost { query, ms: times(&place, &snapshot, &text)? })).collect()
}

fn times(place: &Memory, snapshot: &Snapshot, text: &str) -> Result<Vec<(&'static str, f64)>, Failure> {
    let none = || Find::new().without_values();
    let any = || none().strict().words(Words::Any);
    let by_part = Order::Column { name: "part".to_owned(), down: true };
    let asked = [
        ("as it comes", none()),
        ("all", none().strict()),
        ("any", any()),
        ("any, not counted", any().total(Total::AtLeast(0))),
        ("half", none().strict().words(Words::Share(0.5))),
        ("loosened", none().strict().relaxed_below(10)),
        ("by key", any().order(Order::Key)),
        ("by value", any().order(by_part)),
        ("nearness", any().proximity(1.0)),
        ("near", any().spellings(Spellings::Near)),
        ("beginnings", any().beginnings(Beginnings::All)),
    ];
    let mut all = Vec::with_capacity(asked.len());
    for (name, find) in asked {
        let mut least = f64::MAX;
        for _ in 0..TIMES {
            let begun = Instant::now();
            let query = Query::read(text).query;
            black_box(lenient::search(&place.view(), snapshot, &query, &find)?);
            least = least.min(begun.elapsed().as_secs_f64() * 1e3);
        }
        all.push((name, least));
    }
    let mut least = f64::MAX;
    for _ in 0..TIMES {
        let begun = Instant::now();
        black_box(lenient::suggest(&place.view(), snapshot, text, &Find::new(), &Suggest::new())?);
        least = least.min(begun.elapsed().as_secs_f64() * 1e3);
    }
    all.push(("offered", least));
    Ok(all)
}

/// A word with its second and third letter in each other's place.
fn slipped(term: &str) -> String {
    let mut letters: Vec<_> = term.chars().collect();
    letters.swap(1, 2);
    letters.into_iter().collect()
}

/// The queries, of terms that come by how many records have them.
fn queries(terms: &[String]) -> Vec<(&'static str, String)> {
    let filled = |parts: &mut dyn Iterator<Item = String>, between: &str| {
        let mut text = String::new();
        for part in parts {
            if text.len() + between.len() + part.len() > LONGEST {
                break;
            }
            if !text.is_empty() {
                text.push_str(between);
            }
            text.push_str(&part);
        }
        text
    };
    let letters = || 'a'..='z';
    let pairs = || letters().flat_map(move |first| letters().map(move |second| (first, second)));
    let neighbours = || terms.iter().zip(terms.iter().skip(1));
    let rare = || terms.iter().skip(2_000).step_by(1_500);
    let numbers = || 0..1_000;
    vec![
        (
            "a few common words, with slips",
            terms
                .iter()
                .filter(|term| term.len() > 4)
                .take(16)
                .map(|term| slipped(term))
                .collect::<Vec<_>>()
                .join(" "),
        ),
        ("a few words, one a beginning", format!("{} {} t", terms[0], terms[1])),
        ("*a*", "*a*".to_owned()),
        ("a*", "a*".to_owned()),
        ("each letter, anywhere", filled(&mut letters().map(|letter| format!("*{letter}*")), " OR ")),
        ("each letter, as a beginning", filled(&mut letters().map(|letter| format!("{letter}*")), " OR ")),
        ("pairs of letters, anywhere", filled(&mut pairs().map(|(a, b)| format!("*{a}{b}*")), " ")),
        ("pairs of letters, apart", filled(&mut pairs().map(|(a, b)| format!("*{a}?{b}*")), " OR ")),
        (
            "pairs of letters, apart, from the start",
            filled(&mut pairs().map(|(a, b)| format!("?{a}?{b}*")), " OR "),
        ),
        ("common words", filled(&mut terms.iter().cloned(), " ")),
        ("a thousand words of two letters", filled(&mut pairs().map(|(a, b)| format!("{a}{b}")), " OR ")),
        ("rare words", filled(&mut rare().cloned(), " ")),
        ("common words, misspelled", filled(&mut terms.iter().map(|term| format!("~{term}")), " ")),
        ("rare words, misspelled", filled(&mut rare().map(|term| format!("~{term}")), " ")),
        ("common words, in one column", filled(&mut terms.iter().map(|term| format!("title:{term}")), " ")),
        ("common words, excluded", format!("-{}", filled(&mut terms.iter().cloned(), " -"))),
        ("two common words in a row", format!("\"{} {}\"", terms[0], terms[1])),
        ("two common words near each other", format!("\"{} {}\" within 2", terms[0], terms[1])),
        ("five common words in a window", format!("\"{}\" within 4000", terms[..5].join(" "))),
        ("common words in rows", filled(&mut neighbours().map(|(a, b)| format!("\"{a} {b}\"")), " ")),
        (
            "the commonest word in rows",
            filled(&mut terms.iter().map(|term| format!("\"{} {term}\"", terms[0])), " "),
        ),
        (
            "a word again and again, in rows",
            filled(
                &mut (1..40)
                    .map(|more| format!("\"{}\"", [terms[0].as_str()].repeat(1 + more % 9).join(" "))),
                " OR ",
            ),
        ),
        ("compounds", filled(&mut terms.chunks(2).map(|some| some.join("-")), " ")),
        ("compounds of four", filled(&mut terms.chunks(4).map(|some| some.join("-")), " ")),
        (
            "any of three, all of them",
            filled(&mut terms.chunks(3).map(|some| format!("({})", some.join(" OR "))), " "),
        ),
        (
            "all of three, any of them",
            filled(&mut terms.chunks(3).map(|some| format!("({})", some.join(" "))), " OR "),
        ),
        (
            "one without another",
            filled(
                &mut terms.chunks(2).map(|some| format!("({} -{})", some[0], some[some.len() - 1])),
                " OR ",
            ),
        ),
        ("nested brackets", format!("{}{}{}", "(-(".repeat(800), terms[0], "))".repeat(800))),
        ("ranges of values", filled(&mut numbers().map(|low| format!("part:{low}..{}", low + 500)), " ")),
        ("values", filled(&mut numbers().map(|value| format!("part:{value}")), " OR ")),
        ("values, excluded", filled(&mut numbers().map(|low| format!("-part:{low}..{}", low + 5)), " ")),
    ]
}

/// What was measured, as a table in Markdown.
pub fn table(costs: &[Cost]) -> String {
    let names = costs.first().map_or(&[][..], |cost| cost.ms.as_slice());
    let row = |first: &str, rest: Vec<String>| format!("| {first} | {} |", rest.join(" | "));
    let mut rows = vec![
        row("milliseconds", names.iter().map(|(name, _)| (*name).to_owned()).collect()),
        row("---", names.iter().map(|_| "---".to_owned()).collect()),
    ];
    rows.extend(
        costs
            .iter()
            .map(|Cost { query, ms }| row(query, ms.iter().map(|(_, ms)| format!("{ms:.1}")).collect())),
    );
    rows.join("\n")
}
