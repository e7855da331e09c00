//! One word in the forms that people write: numbers with and without signs between their digits, and words whose apostrophe is left out.
//!
//! What has one of these in common is a form of it: the form that was typed weighs most, and all are found.

/// Where decimal digits of other scripts begin; each block has ten, in order.
const ZEROS: [char; 9] = ['٠', '۰', '०', '௦', '๐', '໐', '၀', '០', '０'];

/// The sign before the decimals of a number in a language: a full stop, or else a comma.
pub(super) fn decimal_sign(code: &str) -> char {
    match code {
        "ar" | "en" | "fa" | "ga" | "he" | "hi" | "ja" | "ko" | "my" | "ne" | "none" | "ta" | "th" | "yi"
        | "zh" => '.',
        _ => ',',
    }
}

/// A number as it is written plainly, if a folded word is one and is written otherwise: digits of ASCII, a full stop before decimals,
/// nothing between thousands, and no zeros behind the first decimal but those that count.
///
/// `1,000` and `1.000,5` are read as the language writes them where that can be; as others do, where only that can be.
pub(super) fn plain_number(word: &str, decimal: char) -> Option<String> {
    if !word.starts_with(is_digit)
        || !word.ends_with(is_digit)
        || !word.chars().all(|c| is_digit(c) || is_sign(c))
    {
        return None;
    }
    let ascii: String = word
        .chars()
        .map(|character| match character {
            '٫' => decimal,
            '٬' => other(decimal),
            character => digit(character).unwrap_or(character),
        })
        .collect();
    let read = split(&ascii, decimal, other(decimal)).or_else(|| split(&ascii, other(decimal), decimal))?;
    let plain = match read {
        (whole, None) => whole,
        (whole, Some(decimals)) => {
            let (first, rest) = decimals.split_at(1);
            format!("{whole}.{first}{}", rest.trim_end_matches('0'))
        }
    };
    (plain != word).then_some(plain)
}

/// The digits before a decimal sign, thousands together, and those behind it.
fn split(number: &str, decimal: char, thousands: char) -> Option<(String, Option<&str>)> {
    let (whole, decimals) = match number.split_once(decimal) {
        Some((whole, decimals)) => (whole, Some(decimals)),
        None => (number, None),
    };
    let is_plain = |digits: &str| !digits.is_empty() && digits.bytes().all(|digit| digit.is_ascii_digit());
    let groups: Vec<&str> = match whole.find(['\'', thousands]) {
        Some(first) => whole.split(&whole[first..=first]).collect(),
        None => vec![whole],
    };
    let (first, rest) = groups.split_first()?;
    let grouped = rest.is_empty() || (first.len() <= 3 && rest.iter().all(|group| group.len() == 3));
    (grouped && groups.iter().all(|group| is_plain(group)) && decimals.is_none_or(is_plain))
        .then(|| (groups.concat(), decimals))
}

fn other(sign: char) -> char {
    if sign == '.' { ',' } else { '.' }
}

fn is_sign(character: char) -> bool {
    matches!(character, '.' | ',' | '\'' | '٫' | '٬')
}

fn is_digit(character: char) -> bool {
    digit(character).is_some()
}

/// A decimal digit of any script that is known here as one of ASCII.
fn digit(character: char) -> Option<char> {
    if character.is_ascii() {
        return character.is_ascii_digit().then_some(character);
    }
    let from = |zero: &char| u32::from(character).checked_sub(u32::from(*zero)).filter(|digit| *digit < 10);
    ZEROS.iter().find_map(from).and_then(|digit| char::from_digit(digit, 10))
}

/// A folded word without its apostrophes, if it has some.
pub(super) fn without_apostrophes(word: &str) -> Option<String> {
    let is_apostrophe = |letter| matches!(letter, '\'' | 'ʼ');
    word.contains(is_apostrophe).then(|| word.replace(is_apostrophe, ""))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn numbers_are_read_as_people_write_them() {
        for (word, english, german) in [
            ("42", "42", "42"),
            ("1,000", "1000", "1.0"),
            ("1.000", "1.0", "1000"),
            ("1,000,000", "1000000", "1000000"),
            ("1.000.000", "1000000", "1000000"),
            ("1'000'000", "1000000", "1000000"),
            ("1'000,000", "1000.0", "1000.0"),
            ("1,234.50", "1234.5", "1234.5"),
            ("1.234,50", "1234.5", "1234.5"),
            ("3.5", "3.5", "3.5"),
            ("3,5", "3.5", "3.5"),
            ("3.50", "3.5", "3.5"),
            ("2.00", "2.0", "2.0"),
            ("12,34", "12.34", "12.34"),
            ("1.2.3", "1.2.3", "1.2.3"),
            ("1,2,3", "1,2,3", "1,2,3"),
            ("10.0000", "10.0", "10.0"),
            ("007", "007", "007"),
            ("1000,000", "1000.0", "1000.0"),
            ("٤٢", "42", "42"),
            ("٣٫٥", "3.5", "3.5"),
            ("१२३", "123", "123"),
            ("v1.2", "v1.2", "v1.2"),
            ("1e5", "1e5", "1e5"),
            ("4'6", "4'6", "4'6"),
            ("", "", ""),
        ] {
            for (sign, expected) in [('.', english), (',', german)] {
                assert_eq!(plain_number(word, sign).as_deref().unwrap_or(word), expected, "{word} {sign}");
            }
        }
    }

    #[test]
    fn apostrophes_are_left_out() {
        assert_eq!(without_apostrophes("don't").as_deref(), Some("dont"));
        assert_eq!(without_apostrophes("пʼять").as_deref(), Some("пять"));
        assert_eq!(without_apostrophes("dont"), None);
    }

    proptest! {
        #[test]
        fn plain_numbers_stay_and_every_way_to_write_one_gives_it(number in 0_u32..2_000_000_000, cents in prop::option::of(1_u32..100)) {
            let digits = number.to_string();
            let mut groups: Vec<String> = digits.as_bytes().rchunks(3).map(|group| String::from_utf8_lossy(group).into_owned()).collect();
            groups.reverse();
            let decimals = cents.map(|cents| format!("{cents:02}"));
            let written = |thousands: &str, sign: &str| {
                let decimals = decimals.as_ref().map_or(String::new(), |decimals| format!("{sign}{decimals}"));
                format!("{}{decimals}", groups.join(thousands))
            };
            let decimals = |decimals: &String| format!(".{}{}", &decimals[..1], decimals[1..].trim_end_matches('0'));
            let plain = format!("{digits}{}", cents.map(|cents| decimals(&format!("{cents:02}"))).unwrap_or_default());
            for (word, sign) in [(written(",", "."), '.'), (written("", "."), '.'), (written(".", ","), ','), (written("'", ","), ',')] {
                let read = plain_number(&word, sign).unwrap_or(word);
                prop_assert_eq!(&read, &plain);
                prop_assert_eq!(plain_number(&read, '.'), None);
            }
        }
    }
}
