//! Which terms of a shelf have a list together: those that are forms of one class, of all that a record has.
//!
//! What always holds: lists stand in the order of their names in the dictionary, and so do, in each, the forms.

use crate::shelf::build::part::Part;
use crate::shelf::build::threads::in_threads;
use crate::shelf::build::vocabulary::Unified;
use crate::shelf::format::terms::{name, read_name};
use std::ops::Range;

/// The lists of a shelf. A term is known by its rank among all, or by its *slot*: its place where all terms of a list stand together.
pub(in crate::shelf) struct Classes {
    /// For each list where its slots end, and the class, if it is not of a term that is its own key and alone.
    lists: Vec<(u32, Option<u32>)>,
    /// The names of the classes.
    names: Vec<Vec<u8>>,
    /// For each slot the rank of the term.
    ranks: Vec<u32>,
    /// For each rank the class, if there is one.
    class_of: Vec<Option<u32>>,
}

impl Classes {
    /// Of the terms of all parts.
    pub fn of(parts: &mut [Part], unified: &Unified) -> Self {
        let mut numbers = vec![Vec::new(); parts.len()];
        for (rank, &(part, number)) in (0..).zip(&unified.order) {
            numbers[part as usize].push((rank, number));
        }
        let keyed = in_threads(parts.iter_mut().zip(&numbers), |(part, terms)| part.learned.keyed(terms));
        let mut keyed = keyed.concat();
        keyed.sort_unstable();
        let term = |rank: u32| term_of(parts, unified, rank).as_bytes();
        let mut class_of = vec![None; unified.len()];
        let (mut names, mut members) = (Vec::<Vec<u8>>::new(), Vec::<Vec<u32>>::new());
        for (class, rank) in keyed {
            if names.last() != Some(&class) {
                names.push(class);
                members.push(Vec::new());
            }
            members.last_mut().into_iter().for_each(|members| members.push(rank));
            class_of[rank as usize] = Some(u32::try_from(names.len() - 1).expect("fewer classes than terms"));
        }
        for (number, (class, members)) in (0..).zip(names.iter().zip(&mut members)) {
            // A term that is the key itself, unless that is a form of another class.
            let (text, stemming, _) = read_name(class).expect("names of classes are made so");
            let own = name(text.as_bytes(), stemming, false);
            let known = unified.order.binary_search_by(|&(part, number)| {
                parts[part as usize].learned.terms.vocabulary.term(number).as_bytes().cmp(&own)
            });
            if let Ok(rank) = known
                && class_of[rank].is_none()
            {
                class_of[rank] = Some(number);
                members.push(u32::try_from(rank).expect("fewer terms than tokens in memory"));
                members.sort_unstable();
            }
        }
        let (mut lists, mut ranks) = (Vec::new(), Vec::with_capacity(unified.len()));
        let mut alone =
            (0..).zip(&class_of).filter(|(_, class)| class.is_none()).map(|(rank, _)| rank).peekable();
        let mut end = |ranks: &Vec<u32>, class| {
            lists.push((u32::try_from(ranks.len()).expect("fewer terms than tokens in memory"), class));
        };
        for (number, (class, members)) in (0..).zip(names.iter().zip(&members)) {
            while let Some(rank) = alone.next_if(|rank| term(*rank) < class.as_slice()) {
                ranks.push(rank);
                end(&ranks, None);
            }
            ranks.extend(members);
            end(&ranks, Some(number));
        }
        for rank in alone {
            ranks.push(rank);
            end(&ranks, None);
        }
        Self { lists, names, ranks, class_of }
    }

    /// How many lists there are.
    pub fn len(&self) -> usize {
        self.lists.len()
    }

    /// The slots of a list.
    pub fn slots(&self, list: usize) -> Range<usize> {
        let start = list.checked_sub(1).map_or(0, |before| self.lists[before].0);
        start as usize..self.lists[list].0 as usize
    }

    /// The rank of the term of a slot.
    pub fn rank(&self, slot: usize) -> u32 {
        self.ranks[slot]
    }

    /// The name of the class of a list, if it is that of one.
    pub fn class(&self, list: usize) -> Option<&[u8]> {
        self.lists[list].1.map(|class| self.names[class as usize].as_slice())
    }

    /// The name of the class that a term leads to, by its rank, if it has no list by its own name.
    pub fn class_of(&self, rank: u32) -> Option<&[u8]> {
        self.class_of[rank as usize].map(|class| self.names[class as usize].as_slice())
    }

    /// For each rank the slot.
    pub fn slot_of_each(&self) -> Vec<u32> {
        let mut slots = vec![0; self.ranks.len()];
        for (slot, &rank) in (0..).zip(&self.ranks) {
            slots[rank as usize] = slot;
        }
        slots
    }
}

/// The name of the term with a rank.
pub(in crate::shelf) fn term_of<'p>(parts: &'p [Part], unified: &Unified, rank: u32) -> &'p str {
    let (part, number) = unified.order[rank as usize];
    parts[part as usize].learned.terms.vocabulary.term(number)
}
