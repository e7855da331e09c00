//! Terms and classes as the dictionary has them.

use crate::shelf::format::directory::Section;
use crate::shelf::format::terms::{ClassEntry, Listed, TermEntry, name};
use crate::shelf::read::held::{Held, Step};
use crate::shelf::read::reader::Shelf;
use crate::wire::Broken;
use std::sync::Arc;

impl Shelf {
    /// The number of a stemming, if the shelf has it.
    pub(crate) fn stemming(&self, name: &str) -> Option<u8> {
        let place = self.stemmings().iter().position(|known| known == name)?;
        u8::try_from(place).ok()
    }

    /// A term of a stemming, if the shelf has it.
    pub(crate) fn find_term(
        self: &Arc<Self>,
        held: &mut Held,
        term: &str,
        stemming: u8,
    ) -> Step<Option<TermEntry>> {
        match self.find_listed(held, &name(term.as_bytes(), stemming, false))? {
            Some(Listed::Own(entry)) => Ok(Some(entry)),
            Some(Listed::Form(key)) => self.find_form(held, term, &key, stemming).map(Some),
            Some(Listed::Class(_)) => Err(self.broken(Section::Terms, Broken("a term")).into()),
            None => Ok(None),
        }
    }

    /// A term that leads to the class with a key.
    pub(in crate::shelf) fn find_form(
        self: &Arc<Self>,
        held: &mut Held,
        term: &str,
        key: &[u8],
        stemming: u8,
    ) -> Step<TermEntry> {
        let class = self.find_listed(held, &name(key, stemming, true))?;
        let entry = match &class {
            Some(Listed::Class(class)) => class.find(term),
            _ => None,
        };
        Ok(entry.ok_or_else(|| self.broken(Section::Terms, Broken("the class of a term")))?)
    }

    /// The class with a key, if the shelf has one of its forms.
    pub(crate) fn find_class(
        self: &Arc<Self>,
        held: &mut Held,
        key: &str,
        stemming: u8,
    ) -> Step<Option<ClassEntry>> {
        if let Some(Listed::Class(class)) = self.find_listed(held, &name(key.as_bytes(), stemming, true))? {
            return Ok(Some(class));
        }
        let own = self.find_listed(held, &name(key.as_bytes(), stemming, false))?;
        Ok(match own {
            Some(Listed::Own(whole)) => {
                Some(ClassEntry { forms: vec![(key.to_owned(), whole.records)], whole })
            }
            _ => None,
        })
    }
}
