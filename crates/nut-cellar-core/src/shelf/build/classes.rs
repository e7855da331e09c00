//! Which terms of a shelf have a list together: those that are forms of one class, of all that a record has.
//!
//! What always holds: lists stand in the order of their names in the dictionary, and so do, in each, the forms.

use crate::shelf::build::arrivals::Keys;
use crate::shelf::build::part::Part;
use crate::shelf::build::threads::in_threads;
use crate::shelf::build::vocabulary::{Unified, unify};
use crate::shelf::format::terms::own_name;
use std::cmp::Ordering;
use std::ops::Range;

/// The lists of a shelf. A term is known by its rank among all, or by its *slot*: its place where all terms of a list stand together.
pub(in crate::shelf) struct Classes {
    /// For each list where its slots end, and the class, if it is not of a term that is its own key and alone.
    lists: Vec<(u32, Option<u32>)>,
    /// The names of the classes, ascending.
    names: Keys,
    /// For each slot the rank of the term.
    ranks: Vec<u32>,
    /// For each rank the class, if there is one.
    class_of: Vec<Option<u32>>,
}

impl Classes {
    /// Of the terms of all parts.
    pub fn of(parts: &mut [Part], unified: &Unified) -> Self {
        let (names, mut class_of) = keyed(parts, unified);
        // Before which rank each class stands.
        let (mut stands, mut rank) = (Vec::with_capacity(names.len()), 0);
        for (class, name) in (0..).zip(names.iter()) {
            let own = own_name(name);
            let compared = |rank: usize| {
                let term = (rank < unified.len()).then(|| term_of(parts, unified, rank).as_bytes());
                term.map_or(Ordering::Greater, |term| term.cmp(own))
            };
            while compared(rank) == Ordering::Less {
                rank += 1;
            }
            let is_there = compared(rank) == Ordering::Equal;
            // A term that is the key itself, unless that is a form of another class.
            if is_there && class_of[rank].is_none() {
                class_of[rank] = Some(class);
            }
            stands.push(rank + usize::from(is_there));
        }
        let (mut lists, mut list_of, mut of_class) = (Vec::new(), Vec::new(), Vec::new());
        let mut classes = (0..).zip(stands).peekable();
        // Past the last term stand classes, too.
        for (rank, class) in class_of.iter().map(Some).chain([None]).enumerate() {
            while let Some((class, _)) = classes.next_if(|(_, stands)| *stands == rank) {
                of_class.push(lists.len());
                lists.push((0, Some(class)));
            }
            list_of.extend(class.map(|_| lists.len()));
            if class == Some(&None) {
                lists.push((0, None));
            }
        }
        for (list, class) in list_of.iter_mut().zip(&class_of) {
            *list = class.map_or(*list, |class| of_class[class as usize]);
            lists[*list].0 += 1;
        }
        let (mut next, mut end) = (Vec::with_capacity(lists.len()), 0);
        for (slots, _) in &mut lists {
            next.push(end as usize);
            end += *slots;
            *slots = end;
        }
        let mut ranks = vec![0; unified.len()];
        for (rank, list) in (0..).zip(list_of) {
            ranks[next[list]] = rank;
            next[list] += 1;
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
    pub fn rank(&self, slot: usize) -> usize {
        self.ranks[slot] as usize
    }

    /// The name of the class of a list, if it is that of one.
    pub fn class(&self, list: usize) -> Option<&[u8]> {
        self.lists[list].1.map(|class| self.names.get(class as usize))
    }

    /// The name of the class that a term leads to, by its rank, if it has no list by its own name.
    pub fn class_of(&self, rank: usize) -> Option<&[u8]> {
        self.class_of[rank].map(|class| self.names.get(class as usize))
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

/// The names of the classes of which terms are, ascending, and for each rank which of them it is; a term that is its own key is not yet in one.
fn keyed(parts: &mut [Part], unified: &Unified) -> (Keys, Vec<Option<u32>>) {
    let mut numbers = vec![Vec::new(); parts.len()];
    for (rank, &(part, number)) in (0..).zip(&unified.order) {
        numbers[part as usize].push((rank, number));
    }
    let keyed = in_threads(parts.iter_mut().zip(&numbers), |(part, terms)| part.learned.keyed(terms));
    let used: Vec<_> = keyed.iter().map(|(classes, _)| vec![1; classes.len()]).collect();
    let classes = keyed.iter().zip(&used).map(|((classes, _), used)| (classes, used.as_slice()));
    let classes = unify(&classes.collect::<Vec<_>>());
    let (mut names, mut class_of) = (Keys::default(), vec![None; unified.len()]);
    for &(part, number) in &classes.order {
        names.push(keyed[part as usize].0.term(number).as_bytes());
    }
    for ((_, terms), places) in keyed.iter().zip(&classes.ranks) {
        for &(rank, number) in terms {
            class_of[rank as usize] = Some(places[number as usize]);
        }
    }
    (names, class_of)
}

/// The name of the term with a rank.
pub(in crate::shelf) fn term_of<'p>(parts: &'p [Part], unified: &Unified, rank: usize) -> &'p str {
    let (part, number) = unified.order[rank];
    parts[part as usize].learned.terms.vocabulary.term(number)
}
