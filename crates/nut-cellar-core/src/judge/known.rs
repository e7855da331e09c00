//! Known items: queries that nobody has to judge. A record is asked for by the words of one of its columns, which is then not searched,
//! and it alone is right.

use super::lots::Lots;
use crate::error::{Error, ErrorKind, Result};
use crate::query::Query;
use crate::record::Key;
use crate::schema::{Column, Schema};
use crate::search::{Find, Found, Total};
use crate::text::LAYOUTS;
use unicode_segmentation::UnicodeSegmentation;

/// A record, and the words that it is asked for by.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KnownItem {
    /// What names the record.
    pub record: Key,
    /// The words, none of which is an operator.
    pub text: String,
}

/// So many words of a value are asked for at most.
const MOST_WORDS: usize = 12;

/// About `wanted` records of a cellar, drawn by lot, each asked for by the first words of its value in `column`. `ask` searches the
/// cellar. Takes as many searches as there are records wanted, none of which gives more than one hit.
///
/// # Errors
/// [`ErrorKind::BadRequest`] if the schema has no such column, or its values are not kept; whatever `ask` answers.
pub fn known_items(
    schema: &Schema,
    column: &str,
    wanted: usize,
    seed: u64,
    mut ask: impl FnMut(&Query, &Find) -> Result<Found>,
) -> Result<Vec<KnownItem>> {
    if !schema.column(column).is_some_and(Column::kept) {
        return Err(Error::new(
            ErrorKind::BadRequest,
            format!("Queries can't be made of `{column}`; name a column whose values are kept."),
        ));
    }
    let everything = Query::everything();
    let records = ask(&everything, &Find::new().limit(0))?.total;
    let mut lots = Lots(seed);
    let (mut items, mut last, mut next) = (Vec::new(), None, 0);
    // Of as many shares of the records, in the order of keys, as items are wanted, one record each.
    let start =
        |share: usize| u64::try_from(u128::from(records) * share as u128 / wanted as u128).unwrap_or(records);
    for share in 0..wanted {
        let size = start(share + 1) - start(share);
        if size == 0 {
            continue;
        }
        let drawn = start(share) + lots.below(size);
        let passed = usize::try_from(drawn - next).unwrap_or(usize::MAX);
        next = drawn + 1;
        let mut find = Find::new().total(Total::AtLeast(0)).limit(1).skip(passed);
        if let Some(last) = last.take() {
            find = find.after(last);
        }
        let found = ask(&everything, &find)?;
        let Some(hit) = found.hits.first() else { break };
        let words =
            hit.values(column).first().map(|value| value.to_string().to_lowercase()).unwrap_or_default();
        let words: Vec<_> = words.unicode_words().take(MOST_WORDS).collect();
        if !words.is_empty() {
            items.push(KnownItem { record: hit.key.clone(), text: words.join(" ") });
        }
        last = found.last;
    }
    Ok(items)
}

/// A text with one more typing mistake of a kind that people make: two letters in each other's place, one left out, one twice, or one
/// beside it on the keyboard hit instead or as well (F. Damerau, "A Technique for Computer Detection and Correction of Spelling Errors",
/// 1964). It is made in a word of four letters or more, behind its first letter; a text without such a word stays.
///
/// ```
/// use nut_cellar_core::judge::with_mistake;
///
/// assert_eq!(with_mistake("a walnut box", 2), with_mistake("a walnut box", 2));
/// assert_ne!(with_mistake("a walnut box", 2), "a walnut box");
/// assert_eq!(with_mistake("an oak", 2), "an oak");
/// ```
pub fn with_mistake(text: &str, seed: u64) -> String {
    let mut lots = Lots(seed);
    let mut words: Vec<Vec<char>> = text.split(' ').map(|word| word.chars().collect()).collect();
    let long: Vec<_> =
        words.iter_mut().filter(|word| word.len() >= 4 && word.iter().all(|c| c.is_alphabetic())).collect();
    if !long.is_empty() {
        let place = lots.place(long.len());
        if let Some(word) = long.into_iter().nth(place) {
            mistype(word, &mut lots);
        }
    }
    let words: Vec<String> = words.into_iter().map(String::from_iter).collect();
    words.join(" ")
}

/// Makes a mistake in a word. It is another word afterwards.
fn mistype(word: &mut Vec<char>, lots: &mut Lots) {
    let at = 1 + lots.place(word.len() - 1);
    let beside = neighbour(word[at], lots);
    match (lots.below(5), beside) {
        (0, _) if word[at] != word[at - 1] => word.swap(at, at - 1),
        (1, Some(beside)) => word[at] = beside,
        (2, Some(beside)) => word.insert(at, beside),
        (3, _) => word.insert(at, word[at]),
        _ => drop(word.remove(at)),
    }
}

/// A letter beside another in its row, if it is on the keyboard.
fn neighbour(letter: char, lots: &mut Lots) -> Option<char> {
    let row: Vec<char> = LAYOUTS.iter().flatten().find(|row| row.contains(letter))?.chars().collect();
    let at = row.iter().position(|known| *known == letter)?;
    let beside = if at == 0 || (at + 1 < row.len() && lots.below(2) == 0) { at + 1 } else { at - 1 };
    Some(row[beside])
}
