//! A grammar of phrases: rules with productions that may name other rules.

use crate::random::Random;
use std::collections::HashMap;

/// The rules, by name.
pub struct Grammar(HashMap<&'static str, Vec<&'static str>>);

/// What a record fills in, by name: takes the place of the rule of that name.
pub type Given<'a> = HashMap<&'static str, &'a str>;

/// Rules name each other no deeper than this.
const DEPTH: usize = 12;

impl Grammar {
    /// The grammar of the clerks.
    pub fn of_the_clerks() -> Self {
        let mut rules: HashMap<_, Vec<_>> = HashMap::new();
        let mut rule = "";
        for line in
            include_str!("grammar.txt").lines().filter(|line| !line.is_empty() && !line.starts_with('#'))
        {
            match line.strip_prefix("    ") {
                Some(production) => rules.entry(rule).or_default().push(production),
                None => rule = line,
            }
        }
        Self(rules)
    }

    /// One production of a rule, with everything in it filled in.
    pub fn expand(&self, random: &mut Random, given: &Given<'_>, rule: &str) -> String {
        let mut out = String::new();
        self.put(random, given, rule, DEPTH, &mut out);
        out
    }

    /// The productions of a rule as they stand.
    pub fn productions(&self, rule: &str) -> &[&'static str] {
        self.0.get(rule).map_or(&[], Vec::as_slice)
    }

    fn put(&self, random: &mut Random, given: &Given<'_>, rule: &str, depth: usize, out: &mut String) {
        assert!(depth > 0, "the rule `{rule}` never ends");
        let mut rest = random.pick(self.productions(rule));
        while let Some((before, after)) = rest.split_once('<') {
            let (name, after) = after.split_once('>').expect("a rule's name ends with >");
            out.push_str(before);
            let start = out.len();
            let known = |name: &str| given.contains_key(name) || !self.productions(name).is_empty();
            let lower = name.to_lowercase();
            let (name, shape) =
                if known(name) { (name, Shape::AsIs) } else { (lower.as_str(), Shape::of(name)) };
            match given.get(name) {
                Some(text) => out.push_str(text),
                None => self.put(random, given, name, depth - 1, out),
            }
            shape.apply(out, start);
            rest = after;
        }
        out.push_str(rest);
    }
}

/// How a rule's name is written says how its text is.
enum Shape {
    AsIs,
    Capital,
    Capitals,
}

impl Shape {
    fn of(name: &str) -> Self {
        if name.chars().all(|c| !c.is_lowercase()) { Self::Capitals } else { Self::Capital }
    }

    fn apply(&self, out: &mut String, start: usize) {
        let text = out.split_off(start);
        match self {
            Self::AsIs => out.push_str(&text),
            Self::Capitals => out.push_str(&text.to_uppercase()),
            Self::Capital => {
                let mut characters = text.chars();
                out.extend(characters.next().into_iter().flat_map(char::to_uppercase));
                out.push_str(characters.as_str());
            }
        }
    }
}
