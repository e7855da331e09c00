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

/// Whether a word may begin so, behind a sign.
pub(super) fn begins_word(character: char) -> bool {
    character.is_alphanumeric() || character == '_'
}

/// Whether a text begins with a word, a quotation, a bracket or a pattern, so that a sign may stand in front of it.
pub(super) fn begins_part(text: &str) -> bool {
    let mut rest = text.chars().map(plain);
    match rest.next() {
        Some('"' | '(' | '\\' | '*' | '?') => true,
        Some('~') => rest.next().is_some_and(|next| next == '\\' || begins_word(next)),
        Some(first) => begins_word(first),
        None => false,
    }
}
