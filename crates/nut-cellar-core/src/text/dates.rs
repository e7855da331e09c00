//! Days as people write them, so that words find them: `2031-04-17` is also `April 17, 2031`, and `17.4.2031` where a
//! schema says so.
//!
//! How each language writes a day is in `months.txt`, from the Unicode Common Locale Data Repository.

use crate::error::{Error, ErrorKind, Result};
use jiff::civil::Date;
use std::collections::HashMap;
use std::sync::LazyLock;

/// How a language writes a day.
struct Habit {
    /// With `{day}`, `{month}` or `{number}`, and `{year}`.
    form: &'static str,
    /// The names of the months in it, their abbreviations, the names as they stand alone; the last two where they differ.
    names: Vec<Vec<&'static str>>,
}

/// By language code.
static HABITS: LazyLock<HashMap<&'static str, Habit>> = LazyLock::new(|| {
    let lines = include_str!("months.txt").lines().filter(|line| !line.starts_with('#'));
    lines
        .filter_map(|line| {
            let mut fields = line.split('|');
            let (code, form) = (fields.next()?, fields.next()?);
            Some((code, Habit { form, names: fields.map(|names| names.split(',').collect()).collect() }))
        })
        .collect()
});

/// The texts that a day is found by: by ISO 8601, as the language writes it, and in the forms `written`, with and
/// without zeros in front.
pub(super) fn spellings(language: &str, written: &[String], day: Date) -> Vec<String> {
    let mut texts = vec![format!("{:04}-{:02}-{:02}", day.year(), day.month(), day.day())];
    if let Some(habit) = HABITS.get(language) {
        texts.extend(habit.spell(day));
    }
    for form in written {
        for width in [1, 2] {
            texts.push(
                form.replace("day", &format!("{:0width$}", day.day()))
                    .replace("month", &format!("{:0width$}", day.month()))
                    .replace("year", &day.year().to_string()),
            );
        }
    }
    let mut seen = 0;
    while seen < texts.len() {
        if texts[..seen].contains(&texts[seen]) {
            texts.remove(seen);
        } else {
            seen += 1;
        }
    }
    texts
}

impl Habit {
    fn spell(&self, day: Date) -> Vec<String> {
        let form = self
            .form
            .replace("{day}", &day.day().to_string())
            .replace("{number}", &day.month().to_string())
            .replace("{year}", &day.year().to_string());
        let Some((before, after)) = form.split_once("{month}") else {
            return [form]
                .into_iter()
                .chain(self.names.iter().map(|names| name(names, day).to_owned()))
                .collect();
        };
        let mut texts: Vec<_> =
            self.names.iter().map(|names| format!("{before}{}{after}", name(names, day))).collect();
        // A name that has letters of the form at its ends is looked for without them too.
        if before.ends_with(char::is_alphabetic) || after.starts_with(char::is_alphabetic) {
            texts.push(name(&self.names[0], day).to_owned());
        }
        texts
    }
}

fn name<'n>(names: &[&'n str], day: Date) -> &'n str {
    usize::try_from(day.month() - 1).ok().and_then(|month| names.get(month)).copied().unwrap_or_default()
}

/// Tells whether a form that a schema lists is one: `day`, `month` and `year`, with signs and digits between them.
pub(super) fn check(form: &str) -> Result<()> {
    let rest = ["day", "month", "year"].iter().fold(form.to_owned(), |rest, word| rest.replacen(word, "", 1));
    if rest.len() == form.len() || rest.contains(char::is_alphabetic) {
        return Err(Error::new(
            ErrorKind::BadSchema,
            format!(
                "`written` has \"{form}\"; a form has `day`, `month` and `year` in it, each once, as \"day.month.year\" has"
            ),
        ));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::text::Language;
    use jiff::civil::date;

    #[test]
    fn a_day_is_spelled_as_the_language_does() {
        let spelled = |language| spellings(language, &[], date(2031, 4, 17))[1..].join(" | ");
        assert_eq!(spelled("none"), "");
        assert_eq!(spelled("en"), "april 17, 2031 | apr 17, 2031");
        assert_eq!(spelled("de"), "17. april 2031 | 17. apr. 2031");
        assert_eq!(spelled("ru"), "17 апреля 2031 г. | 17 апр. 2031 г. | 17 апрель 2031 г.");
        assert_eq!(spelled("ja"), "2031年4月17日");
        assert_eq!(spelled("zh"), "2031年4月17日 | 四月");
        assert_eq!(spelled("ko"), "2031년 4월 17일");
        assert_eq!(spelled("eu"), "2031(e)ko apirilaren 17(a) | 2031(e)ko api.ren 17(a) | apirila");
    }

    #[test]
    fn listed_forms_come_with_and_without_zeros() {
        let written = ["day.month.year".to_owned(), "month/day/year".to_owned(), "year".to_owned()];
        let spelled = spellings("none", &written, date(2031, 4, 7));
        assert_eq!(spelled, ["2031-04-07", "7.4.2031", "07.04.2031", "4/7/2031", "04/07/2031", "2031"]);
        for wrong in ["", "4.7.", "tag.month.year", "day.day.year", "monthly"] {
            assert!(check(wrong).unwrap_err().to_string().contains("`written`"), "{wrong}");
        }
        for form in &written {
            check(form).unwrap();
        }
    }

    #[test]
    fn every_language_has_its_months() {
        for (language, _) in Language::all().filter(|(code, _)| *code != "none") {
            let habit = &HABITS[language];
            assert!(habit.names.iter().all(|names| names.len() == 12), "{language}");
            assert!(habit.form.contains("{day}") && habit.form.contains("{year}"), "{language}");
            assert_eq!(habit.form.contains("{number}"), !habit.form.contains("{month}"), "{language}");
            assert!(habit.form.contains("{number}") || !habit.names.is_empty(), "{language}");
        }
    }
}
