//! What a search says besides its hits: what was taken otherwise than it may have been meant, left out, or looked for in another way.
//! Programs decide by the data, and people read the sentence that `Display` makes of them.

use serde::{Deserialize, Serialize};
use std::fmt;

/// Something that a search says besides its hits. Its `Display` is a sentence.
///
/// ```
/// use nut_cellar_core::{Note, Query};
///
/// let notes = Query::read("title:\"brass handle").notes;
/// assert_eq!(notes[0].to_string(), "A quotation mark is not closed; the phrase was taken to go to the end.");
/// assert!(matches!(notes[0], Note::Misread { start: 6, .. }));
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(any(test, feature = "json-schema"), derive(schemars::JsonSchema))]
#[serde(tag = "note", rename_all = "snake_case", deny_unknown_fields)]
#[non_exhaustive]
pub enum Note {
    /// Something in the text makes no sense as it stands.
    Misread {
        /// A sentence that says what, and how it was taken.
        message: String,
        /// Where it begins in the text, in bytes.
        start: usize,
        /// Where it ends.
        end: usize,
    },
    /// The query has no word to look for.
    NothingToFind,
    /// The query only says what is not wanted.
    OnlyExcludes,
    /// A word that hardly any record has stands for nothing else: more terms are spelled nearly so than were looked at.
    NotMended {
        /// The word.
        word: String,
    },
    /// Words that say little were left out, for others are there.
    SayLittle {
        /// These.
        words: Vec<String>,
    },
    /// What stands in front of a colon is no column that can be searched for what stands behind it.
    NotAColumn {
        /// What stands in front of the colon.
        column: String,
        /// What is wrong, within a sentence.
        problem: String,
        /// Whether it was taken as a word; it was left out otherwise.
        taken_as_word: bool,
    },
    /// What is no value of its column was left out.
    NotAValue {
        /// The column.
        column: String,
        /// What was typed.
        text: String,
        /// What is wrong, as a sentence.
        problem: String,
    },
    /// A pattern for values, which are looked for by their beginning only, was left out.
    NotABeginning {
        /// The column.
        column: String,
        /// The pattern.
        pattern: String,
    },
    /// A pattern that can't be looked for was left out.
    NotAPattern {
        /// The pattern.
        pattern: String,
        /// What is wrong, as a sentence.
        problem: String,
    },
    /// Something without a letter or digit was left out.
    NoLetter {
        /// What was typed.
        text: String,
    },
    /// Of different words and phrases more were left out.
    TooManyWords {
        /// A query may have so many.
        most: usize,
        /// So many were left out.
        left_out: usize,
    },
    /// Of patterns more were left out.
    TooManyPatterns {
        /// A query may have so many.
        most: usize,
        /// A near spelling counts as so many.
        near_counts: usize,
        /// So many may be such as nothing leads to.
        most_wide: usize,
        /// So many were left out.
        left_out: usize,
    },
    /// Of more phrases, windows and compounds the words were looked for wherever they stand.
    TooManyPhrases {
        /// A query may have so many.
        most: usize,
        /// There were so many more.
        loosened: usize,
    },
    /// Of different values more were left out.
    TooManyValues {
        /// The words of a query may ask for so many.
        most: usize,
        /// So many were left out.
        left_out: usize,
    },
    /// Phrases and the like whose words are so common that these were looked for wherever they stand.
    PhrasesLoosened {
        /// So many.
        count: usize,
    },
    /// Words that are so common that they do not score.
    WordsNotScored {
        /// So many.
        count: usize,
    },
    /// Words are so common that it does not count how near they stand.
    ProximityNotScored,
    /// Few were found, so near spellings count.
    SpelledNearly,
    /// Few have all words, so those with fewer count.
    FewerWords {
        /// The query has so many.
        words: usize,
        /// Those with so many count.
        needed: usize,
    },
    /// A pattern or spelling stands for more terms than decide the ranking.
    TermsCut {
        /// So many decide it.
        most: usize,
    },
    /// Patterns or spellings stand for more terms than a search looks at: records may be missing.
    TermsMissing,
    /// The role may not see all rows: only hits whose rows it may see are told and counted.
    RowsWithheld,
    /// The role may not see all rows: [counts](crate::counts) would tell of the others.
    CountsWithheld,
    /// Changed rows are in no shelf yet, which makes searches slower.
    RowsPending {
        /// So many.
        rows: u64,
    },
}

impl fmt::Display for Note {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Misread { message, .. } => f.write_str(message),
            Self::NothingToFind => f.write_str("The query has no word to look for, so nothing is found."),
            Self::OnlyExcludes => {
                f.write_str("The query only says what is not wanted; everything else is found.")
            }
            Self::NotMended { word } => write!(
                f,
                "Hardly any record has `{word}`, and too many terms are spelled nearly so to look at all; it was taken as it is."
            ),
            Self::SayLittle { words } => write!(f, "Left out, since they say little: {}.", words.join(", ")),
            Self::NotAColumn { problem, taken_as_word, .. } => {
                let taken = if *taken_as_word { "it was taken as a word" } else { "it was left out" };
                write!(f, "In front of the colon: {problem}; {taken}.")
            }
            Self::NotAValue { problem, .. } => write!(f, "{problem} It was left out."),
            Self::NotABeginning { column, pattern } => write!(
                f,
                "Values of `{column}` can be looked for by their beginning, as in `{column}:Elm*`; `{pattern}` was left out."
            ),
            Self::NotAPattern { pattern, problem } => write!(f, "{problem} `{pattern}` was left out."),
            Self::NoLetter { text } => write!(f, "`{text}` has no letter or digit; it was left out."),
            Self::TooManyWords { most, left_out } => {
                write!(f, "The query has more than {most} different words; {left_out} were left out.")
            }
            Self::TooManyPatterns { most, near_counts, most_wide, left_out } => write!(
                f,
                "Of patterns a query may have {most}, of which a near spelling counts as {near_counts}, and {most_wide} like \
                 `*a*`; {left_out} more were left out."
            ),
            Self::TooManyPhrases { most, loosened } => write!(
                f,
                "Of phrases, windows and compound words a query may have {most}; of {loosened} more the words were looked for \
                 wherever they stand."
            ),
            Self::TooManyValues { most, left_out } => write!(
                f,
                "A query may ask for {most} different values; {left_out} more were left out. A filter has no such limit."
            ),
            Self::PhrasesLoosened { count } => write!(
                f,
                "Phrases, windows and compounds whose words are so common that they were looked for wherever they stand: {count}."
            ),
            Self::WordsNotScored { count } => {
                write!(f, "Words that are so common that they do not count in scores: {count}.")
            }
            Self::ProximityNotScored => f.write_str(
                "Words are so common that it does not count how near they stand to each other.",
            ),
            Self::SpelledNearly => {
                f.write_str("Few were found, so words that are spelled nearly so count too.")
            }
            Self::FewerWords { words, needed } => {
                write!(f, "Few have all {words} words, so those with {needed} of them count too.")
            }
            Self::TermsCut { most } => write!(
                f,
                "A pattern or spelling stands for more than {most} terms; the {most} most alike decide the ranking."
            ),
            Self::TermsMissing => f.write_str(
                "Patterns or spellings stand for more terms than a search looks at, so records are missing; type more of their \
                 letters.",
            ),
            Self::RowsWithheld => f.write_str("Only hits whose rows this role may see are told and counted."),
            Self::CountsWithheld => f.write_str(
                "Nothing is counted by value, since this role may not see all rows; count in SQL, with the hits joined to them.",
            ),
            Self::RowsPending { rows } => write!(
                f,
                "{rows} changed rows are in no shelf yet, which makes searches slower; `sync` puts them there."
            ),
        }
    }
}
