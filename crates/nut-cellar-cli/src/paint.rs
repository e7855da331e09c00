//! How answers look to people: tables, marks and colours. Colours are taken out again where nobody would see them.

use anstyle::{AnsiColor, Style};
use comfy_table::{Cell, CellAlignment, ContentArrangement, LineStyle, Table, TableStyle};
use nut_cellar::Marks;
use std::ops::Range;

/// A match.
pub const MATCH: Style = AnsiColor::Yellow.on_default().bold();
/// A heading.
pub const HEAD: Style = AnsiColor::Cyan.on_default().bold();
/// What can be overlooked.
pub const FAINT: Style = Style::new().dimmed();

/// Marks of no width, so that tables are laid out as if they were not there; [`painted`] turns them to colours.
const BEFORE: char = '\u{2068}';
const AFTER: char = '\u{2069}';

/// The widest that tables get, in characters, however wide the terminal is.
const WIDEST: usize = 140;

/// Marks for texts that are put into a table.
pub fn marks() -> Marks {
    Marks::new(BEFORE, AFTER)
}

/// Whether a character turns the direction of the text around it, or breaks its line, and is not seen itself: then what is shown is not
/// what is there. Those of the Unicode Bidirectional Algorithm (UAX #9, 2), which are our own marks as well, and two of separators.
pub fn turns_text(character: char) -> bool {
    matches!(character, '\u{061c}' | '\u{200e}' | '\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
}

/// A text without control characters and without what looks like a mark or turns it, on one line.
pub fn clean(text: &str) -> String {
    plain(text).replace(['\n', '\t'], " ")
}

/// The same of a text with matches, which stand elsewhere then.
pub fn clean_with((text, matches): (&str, &[Range<usize>])) -> (String, Vec<Range<usize>>) {
    let (mut out, mut moved, mut at) = (String::new(), Vec::with_capacity(matches.len()), 0);
    for range in matches {
        out.push_str(&clean(&text[at..range.start]));
        let start = out.len();
        out.push_str(&clean(&text[range.clone()]));
        moved.push(start..out.len());
        at = range.end;
    }
    out.push_str(&clean(&text[at..]));
    (out, moved)
}

/// The same, on as many lines as it has.
pub fn plain(text: &str) -> String {
    let shown = text.chars().filter(|&character| !turns_text(character));
    shown
        .map(|character| if character.is_control() && !"\n\t".contains(character) { ' ' } else { character })
        .collect()
}

/// A text that is a match as a whole.
pub fn marked(text: &str) -> String {
    format!("{BEFORE}{text}{AFTER}")
}

/// The text with its marks as colours.
pub fn painted(text: &str) -> String {
    text.replace(BEFORE, &MATCH.render().to_string()).replace(AFTER, &MATCH.render_reset().to_string())
}

/// The width of a text on a terminal, in columns.
pub fn width_of(text: &str) -> usize {
    unicode_width::UnicodeWidthStr::width(text)
}

/// The width to lay out for.
pub fn width() -> usize {
    terminal_size::terminal_size().map_or(100, |(width, _)| usize::from(width.0)).clamp(40, WIDEST)
}

/// An empty table with these headings; those of numbers begin with `>` and are aligned to the right.
pub fn table(headings: &[&str]) -> Table {
    let mut table = Table::new();
    let rule = LineStyle::none().fill('─').junction('─');
    table
        .load_style(TableStyle::new().header_separator(rule))
        .set_content_arrangement(ContentArrangement::Dynamic);
    table.set_width(u16::try_from(width()).unwrap_or(u16::MAX));
    table.set_header(headings.iter().map(|heading| Cell::new(heading.trim_start_matches('>'))));
    for (place, heading) in headings.iter().enumerate() {
        if let Some(column) = table.column_mut(place)
            && heading.starts_with('>')
        {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    table
}

/// A time in a unit that suits it.
pub fn time(microseconds: f64) -> String {
    match microseconds {
        us if us < 1_000.0 => format!("{us:.0} µs"),
        us if us < 1_000_000.0 => format!("{:.1} ms", us / 1_000.0),
        us => format!("{:.1} s", us / 1_000_000.0),
    }
}

/// A size in a unit that suits it.
pub fn size(bytes: u64) -> String {
    const UNITS: [&str; 4] = ["KiB", "MiB", "GiB", "TiB"];
    if bytes < 1_024 {
        return format!("{bytes} B");
    }
    let (mut size, mut unit) = (bytes as f64 / 1_024.0, 0);
    while size >= 1_024.0 && unit + 1 < UNITS.len() {
        size /= 1_024.0;
        unit += 1;
    }
    format!("{size:.1} {}", UNITS[unit])
}

/// A count with its noun.
pub fn count(number: u64, one: &str, many: &str) -> String {
    format!("{} {}", grouped(number), if number == 1 { one } else { many })
}

/// A number with its digits in groups of three.
pub fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut grouped = String::new();
    for (place, digit) in digits.chars().enumerate() {
        if place > 0 && (digits.len() - place).is_multiple_of(3) {
            grouped.push(',');
        }
        grouped.push(digit);
    }
    grouped
}
