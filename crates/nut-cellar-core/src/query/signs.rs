//! The signs of the query language, as they are typed on any keyboard: typographic and full-width ones mean the same.

/// A sign as the language writes it; other characters as they are.
pub(super) fn plain(character: char) -> char {
    match character {
        '“' | '”' | '„' | '‟' | '«' | '»' | '＂' | '〝' | '〞' => '"',
        '（' => '(',
        '）' => ')',
        '：' => ':',
        '，' => ',',
        '－' | '−' => '-',
        '＋' => '+',
        '～' => '~',
        '＊' => '*',
        '？' => '?',
        other => other,
    }
}

/// Whether a character may mean something in a word.
pub(super) fn is_sign(character: char) -> bool {
    matches!(plain(character), '"' | '(' | ')' | ':' | ',' | '*' | '?' | '\\')
}

/// The words that are operators, in capitals.
pub(super) const OPERATORS: [&str; 3] = ["OR", "AND", "NOT"];

/// What stands between a phrase and the size of its window.
pub(super) const WITHIN: &str = "within";
