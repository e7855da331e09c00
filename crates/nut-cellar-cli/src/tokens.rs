//! `tokens`: what becomes of a text.

use crate::arguments;
use crate::{paint, say};
use comfy_table::Cell;
use nut_cellar::{Error, ErrorKind, Language, Recipe, Result};

pub fn run(call: &arguments::Tokens) -> Result<()> {
    let language = Language::new(&call.language)
        .map_err(|error| Error::new(ErrorKind::BadRequest, format!("--language: {error}.")))?;
    let tokens = Recipe::new(&language).trace(&call.text);
    if call.json {
        let text = serde_json::to_string(&tokens).expect("tokens are made of numbers and texts");
        return say(&format!("{text}\n"));
    }
    if tokens.is_empty() {
        anstream::eprintln!("There is no word in the text: no run of letters or digits.");
        return Ok(());
    }
    let mut table = paint::table(&[">position", ">bytes", "text", "term", "what the steps did"]);
    for token in tokens {
        let steps: Vec<_> = token
            .steps
            .iter()
            .map(|change| format!("{}: {} → {}", change.step, change.before, change.after))
            .collect();
        table.add_row([
            Cell::new(token.position),
            Cell::new(format!("{}..{}", token.start, token.end)),
            Cell::new(paint::clean(&call.text[token.start..token.end])),
            Cell::new(token.term),
            Cell::new(if steps.is_empty() { "nothing to do".to_owned() } else { steps.join("\n") }),
        ]);
    }
    say(&format!("{table}\n"))
}
