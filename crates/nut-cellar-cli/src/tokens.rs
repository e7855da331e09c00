//! `tokens`: what becomes of a text, by one recipe or by two side by side.

use crate::adopt::read_schema;
use crate::arguments;
use crate::paint::MATCH;
use crate::{paint, say};
use comfy_table::Cell;
use nut_cellar::text::{Role, TracedToken};
use nut_cellar::{Error, ErrorKind, Kind, Language, Recipe, Result};
use serde_json::{Map, Value};
use std::collections::BTreeMap;

/// A recipe with its name.
struct Named {
    name: String,
    tokens: Vec<TracedToken>,
}

pub fn run(call: &arguments::Tokens) -> Result<()> {
    let (one, text) = asked(call)?;
    let other = match &call.against {
        Some(code) => {
            let recipe = Recipe::new(&language("--against", code)?);
            Some(Named { name: code.clone(), tokens: recipe.trace(&text) })
        }
        None => None,
    };
    if call.json {
        let json =
            |tokens: &[TracedToken]| serde_json::to_value(tokens).expect("tokens are numbers and texts");
        let answer = match &other {
            None => json(&one.tokens),
            Some(other) => {
                let both = [&one, other].map(|named| (named.name.clone(), json(&named.tokens)));
                Value::Object(both.into_iter().collect::<Map<_, _>>())
            }
        };
        return crate::say_json(&answer);
    }
    if one.tokens.is_empty() && other.as_ref().is_none_or(|other| other.tokens.is_empty()) {
        crate::tell(format_args!("There is no word in the text: no run of letters or digits."));
        return Ok(());
    }
    say(&match other {
        None => alone(&text, &one.tokens),
        Some(other) => side_by_side(&text, &one, &other),
    })
}

/// What becomes of the text by what is asked for, and the text that was read: of a day the ways in which people write it, one after the
/// other.
fn asked(call: &arguments::Tokens) -> Result<(Named, String)> {
    let (Some(path), Some(name)) = (&call.schema, &call.column) else {
        let tokens = Recipe::new(&language("--language", &call.language)?).trace(&call.text);
        return Ok((Named { name: call.language.clone(), tokens }, call.text.clone()));
    };
    let schema = read_schema(path)?;
    let read = schema.tokens(name, &call.text);
    let read = read.map_err(|error| Error::new(error.kind(), format!("--column: {error}")))?;
    let (mut text, mut tokens, mut language) = (String::new(), Vec::new(), String::new());
    for one in read {
        text.push_str(if text.is_empty() { "" } else { " · " });
        let before = text.len();
        tokens.extend(one.tokens.into_iter().map(|mut token| {
            (token.start, token.end) = (token.start + before, token.end + before);
            token
        }));
        text.push_str(&one.text);
        language = one.language;
    }
    let column = schema.column(name);
    if let Some(column) = column.filter(|column| column.kind() != Kind::Text) {
        crate::tell(format_args!("A {} is read as people write it: {text}", column.kind()));
    } else if column.is_some_and(|column| column.text_settings().detect.is_some()) {
        crate::tell(format_args!("The text is taken for `{language}`."));
    }
    Ok((Named { name: name.clone(), tokens }, text))
}

fn language(option: &str, code: &str) -> Result<Language> {
    Language::new(code).map_err(|error| Error::new(ErrorKind::BadRequest, format!("{option}: {error}.")))
}

fn alone(text: &str, tokens: &[TracedToken]) -> String {
    let mut table =
        paint::table(&[">position", ">bytes", "text", "term", "forms share", "what the steps did"]);
    for token in tokens {
        let steps = token.steps.iter().map(|change| match &*change.step {
            "weak" => "weak: left out of searches that have other words".to_owned(),
            step if change.after.is_empty() => format!("{step}: {} is dropped", change.before),
            "compound" => format!("compound: a part of {}", change.before),
            step => format!("{step}: {} → {}", change.before, change.after),
        });
        let steps: Vec<_> = steps.collect();
        let position = match token.span {
            _ if token.dropped => "–".to_owned(),
            1 if token.role != Role::Word => format!("also {}", token.position),
            1 => token.position.to_string(),
            span => format!("{} to {}", token.position, token.position + span - 1),
        };
        table.add_row([
            Cell::new(position),
            Cell::new(format!("{}..{}", token.start, token.end)),
            Cell::new(paint::clean(&text[token.start..token.end])),
            Cell::new(if token.dropped { "–" } else { &token.term }),
            Cell::new(token.key.as_deref().unwrap_or_default()),
            Cell::new(if steps.is_empty() { "nothing to do".to_owned() } else { steps.join("\n") }),
        ]);
    }
    format!("{table}\n")
}

/// One line for each run of bytes that one of the recipes makes a token of; where their terms differ they are marked.
fn side_by_side(text: &str, one: &Named, other: &Named) -> String {
    let mut lines: BTreeMap<(usize, std::cmp::Reverse<usize>), [Option<&str>; 2]> = BTreeMap::new();
    for (side, named) in [one, other].into_iter().enumerate() {
        for token in named.tokens.iter().filter(|token| !token.dropped) {
            let line = lines.entry((token.start, std::cmp::Reverse(token.end))).or_default();
            line[side] = Some(token.key.as_ref().unwrap_or(&token.term));
        }
    }
    let mut table = paint::table(&[">bytes", "text", &one.name, &other.name]);
    for ((start, std::cmp::Reverse(end)), terms) in lines {
        let marked = |term: Option<&str>| {
            let term = paint::clean(term.unwrap_or("–"));
            Cell::new(if terms[0] == terms[1] { term } else { paint::marked(&term) })
        };
        table.add_row([
            Cell::new(format!("{start}..{end}")),
            Cell::new(paint::clean(&text[start..end])),
            marked(terms[0]),
            marked(terms[1]),
        ]);
    }
    let key = format!("{MATCH}marked{MATCH:#}: the two differ");
    format!("{}\n{key}\n", paint::painted(&table.to_string()))
}
