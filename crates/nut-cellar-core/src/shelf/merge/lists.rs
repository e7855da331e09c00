//! Merging lists: the dictionaries of all sources are gone through together, class by class.
//!
//! What always holds: of a class stands what live records have, its forms in the order that a builder gives them.

use super::{GONE, Order, Source, least};
use crate::error::{Error, Result};
use crate::shelf::build::output::Output;
use crate::shelf::build::posting_writer::PostingWriter;
use crate::shelf::format::directory::Section;
use crate::shelf::format::lengths::Packed;
use crate::shelf::format::positions::Positions;
use crate::shelf::format::terms::{self, ClassEntry, Listed, Lists, TermEntry, TermWriter, read_name};
use crate::shelf::format::text_columns::TextColumns;
use crate::shelf::read::postings::Postings;
use crate::shelf::read::reading::{ShelfReading, Walk};
use crate::store::View;
use crate::wire::Broken;
use hashbrown::{HashMap, HashSet};
use std::cmp::Reverse;
use std::collections::BTreeMap;
use std::sync::Arc;

/// The lists of all classes of the new shelf.
pub(super) struct MergedLists<'a> {
    pub view: &'a dyn View,
    pub sources: &'a [Source<'a>],
    pub order: &'a Order,
    pub columns: &'a Arc<TextColumns>,
    /// For each text column, for each record.
    pub lengths: &'a [Packed],
    pub block: u8,
}

/// What comes next in the dictionary of the new shelf.
enum Merged<'a> {
    /// A term that leads to a class with this key.
    Form(&'a [u8]),
    /// A list, of these forms, each with how many records have it. Its postings are in the writer.
    List(&'a [(String, u32)]),
}

impl MergedLists<'_> {
    /// The error for something in a section of one of the sources.
    fn broken(&self, section: Section, what: Broken) -> Error {
        self.sources[0].shelf.broken(section, what)
    }

    /// Writes the postings, the positions and the dictionary.
    pub fn write(&self, out: &mut Output<'_>, budget: usize) -> Result<()> {
        let mut terms = TermWriter::new(self.lengths.len()).with_grams();
        let (mut postings, mut positions) = (Vec::new(), Vec::new());
        let mut written = (0, 0);
        // All positions so far, unless they are more than the budget.
        let mut held = Some(Vec::new());
        self.each(|name, merged, list| {
            let listed = match merged {
                Merged::Form(key) => Listed::Form(key.to_vec()),
                Merged::List(forms) => {
                    let whole = list.finish((&mut postings, written.0), (&mut positions, written.1));
                    let Some(whole) = whole else { return Ok(()) };
                    let (_, _, is_class) =
                        read_name(name).map_err(|what| self.broken(Section::Terms, what))?;
                    if is_class {
                        Listed::Class(ClassEntry { forms: forms.to_vec(), whole })
                    } else {
                        Listed::Own(whole)
                    }
                }
            };
            terms.push(name, &listed);
            written.0 += postings.len() as u64;
            written.1 += positions.len() as u64;
            held = held.take().filter(|held| held.len() + positions.len() <= budget);
            if let Some(held) = &mut held {
                held.extend_from_slice(&positions);
            }
            positions.clear();
            let appended = out.append(&postings);
            postings.clear();
            appended
        })?;
        out.end(Section::Postings);
        match held {
            Some(held) => out.append(&held)?,
            None => self.each(|_, merged, list| {
                if let Merged::List(_) = merged {
                    list.finish((&mut postings, 0), (&mut positions, 0));
                }
                let appended = out.append(&positions);
                postings.clear();
                positions.clear();
                appended
            })?,
        }
        out.end(Section::Positions);
        terms.write(out)
    }

    /// Gives what stands in the dictionary, in order.
    fn each(&self, mut take: impl FnMut(&[u8], Merged<'_>, &mut PostingWriter) -> Result<()>) -> Result<()> {
        let mut walks = self
            .sources
            .iter()
            .map(|source| Walk::terms(self.view, source.shelf))
            .collect::<Result<Vec<_>>>()?;
        let mut readings: Vec<_> =
            self.sources.iter().map(|source| ShelfReading::new(self.view, source.shelf)).collect();
        let mut list = PostingWriter::new(self.block.into(), self.columns);
        // Terms that some live record has and that lead to a class, which comes before them, or behind.
        let mut live = LiveForms::default();
        let mut before = Vec::new();
        while let Some(first) = least(&walks, |(name, _): &(Vec<u8>, _)| name) {
            let here = walks[first].here().map(|(name, listed)| (name.clone(), listed.clone()));
            let Some((name, listed)) = here else { break };
            let broken = |what| self.sources[first].shelf.broken(Section::Terms, what);
            if !before.is_empty() && before >= name {
                return Err(broken(Broken("the order of the terms")));
            }
            let (text, stemming, is_class) = read_name(&name).map_err(broken)?;
            if let Listed::Form(key) = &listed
                && key != text.as_bytes()
            {
                for walk in &mut walks[first..] {
                    if walk.here().is_some_and(|(known, _)| *known == name) {
                        walk.next()?;
                    }
                }
                if live.has(self, &mut readings, (text, &name), (key, stemming))? {
                    take(&name, Merged::Form(key), &mut list)?;
                }
                before = name;
                continue;
            }
            let class = terms::name(text.as_bytes(), stemming, true);
            let mut found = Vec::new();
            // The key itself comes first, if it is a term, and the class right behind it.
            for wanted in [&name, &class].into_iter().skip(usize::from(is_class)) {
                for (source, walk) in walks.iter_mut().enumerate() {
                    if walk.here().is_some_and(|(known, _)| known == wanted)
                        && let Some((_, listed)) = walk.next()?
                    {
                        match listed {
                            Listed::Own(whole) => {
                                let forms = vec![(text.to_owned(), whole.records)];
                                found.push((source, ClassEntry { forms, whole }));
                            }
                            Listed::Class(class) => found.push((source, class)),
                            Listed::Form(_) => {}
                        }
                    }
                }
            }
            let forms = self.forms(&mut readings, &found)?;
            let is_own = matches!(&forms[..], [(form, _)] if form == text);
            if !is_own {
                for (form, _) in &forms {
                    let name = terms::name(form.as_bytes(), stemming, false);
                    if form == text {
                        take(&name, Merged::Form(text.as_bytes()), &mut list)?;
                    } else if name > class {
                        live.behind.insert(name);
                    }
                }
            }
            if !forms.is_empty() {
                list.begin(found.iter().map(|(_, class)| class.whole.records as usize).sum(), forms.len());
                self.join(&mut readings, &found, &forms, &mut list)?;
                let own = terms::name(text.as_bytes(), stemming, false);
                take(if is_own { &own } else { &class }, Merged::List(&forms), &mut list)?;
            }
            before = class;
        }
        Ok(())
    }

    /// The forms of a class that live records have, as the new shelf orders them, by where the sources have it.
    fn forms(
        &self,
        readings: &mut [ShelfReading<'_>],
        found: &[(usize, ClassEntry)],
    ) -> Result<Vec<(String, u32)>> {
        let mut all = BTreeMap::<&str, u32>::new();
        for (source, class) in found {
            let ordinals = &self.order.ordinals[*source];
            let counts = if self.order.are_removed[*source] {
                let mut counts = vec![0; class.forms.len()];
                let mut postings =
                    readings[*source].read(|shelf, held| shelf.postings(held, &class.whole))?;
                while postings.advance()? {
                    if ordinals[postings.ordinal() as usize] != GONE {
                        postings.read()?;
                        postings.forms().for_each(|form| counts[form as usize] += 1);
                    }
                }
                counts
            } else {
                class.forms.iter().map(|(_, records)| *records).collect()
            };
            for ((form, _), count) in class.forms.iter().zip(counts) {
                *all.entry(form).or_default() += count;
            }
        }
        let live = all.into_iter().filter(|(_, records)| *records > 0);
        let mut forms: Vec<_> = live.map(|(form, records)| (form.to_owned(), records)).collect();
        forms.sort_by_key(|(_, records)| Reverse(*records));
        Ok(forms)
    }

    /// Appends the postings of a class in the new order.
    fn join(
        &self,
        readings: &mut [ShelfReading<'_>],
        found: &[(usize, ClassEntry)],
        forms: &[(String, u32)],
        list: &mut PostingWriter,
    ) -> Result<()> {
        let mut cursors = Vec::with_capacity(found.len());
        let numbers: HashMap<&str, u32> = forms.iter().map(|(form, _)| form.as_str()).zip(0..).collect();
        for (source, class) in found {
            // A form of removed records only has none, and is not asked for.
            let number = |(form, _): &(String, u32)| numbers.get(form.as_str()).copied().unwrap_or(0);
            let numbers = class.forms.iter().map(number).collect();
            let ordinals = &self.order.ordinals[*source];
            cursors.extend(Cursor::open(&mut readings[*source], ordinals, &class.whole, numbers)?);
        }
        let mut places = Vec::new();
        while let Some(first) = (0..cursors.len()).min_by_key(|&place| cursors[place].record) {
            let others = cursors.iter().enumerate().filter(|(place, _)| *place != first);
            let limit = others.map(|(_, cursor)| cursor.record).min().unwrap_or(GONE);
            let cursor = &mut cursors[first];
            while cursor.record < limit {
                places.clear();
                cursor.places(&mut places)?;
                let record = cursor.record;
                list.push(record, places.iter().copied(), |column| self.lengths[column].get(record));
                if !cursor.advance()? {
                    cursors.swap_remove(first);
                    break;
                }
            }
        }
        Ok(())
    }
}

/// Which terms that lead to a class are of a live record.
#[derive(Default)]
struct LiveForms {
    /// The names of such terms of classes that have come, and that come yet.
    behind: HashSet<Vec<u8>>,
    /// Of classes that come later, by their names, the terms.
    ahead: HashMap<Vec<u8>, HashSet<String>>,
}

impl LiveForms {
    /// Whether a term, by itself and by its name, is of a live record that leads to the class with a key.
    fn has(
        &mut self,
        lists: &MergedLists<'_>,
        readings: &mut [ShelfReading<'_>],
        (text, name): (&str, &[u8]),
        (key, stemming): (&[u8], u8),
    ) -> Result<bool> {
        let class = terms::name(key, stemming, true);
        if class.as_slice() < name {
            return Ok(self.behind.remove(name));
        }
        if !self.ahead.contains_key(&class) {
            let key = str::from_utf8(key).map_err(|_| lists.broken(Section::Terms, Broken("a key")))?;
            let mut found = Vec::new();
            for (source, reading) in readings.iter_mut().enumerate() {
                let class = reading.read(|shelf, held| shelf.find_class(held, key, stemming))?;
                found.extend(class.map(|class| (source, class)));
            }
            let forms = lists.forms(readings, &found)?.into_iter().map(|(form, _)| form).collect();
            self.ahead.insert(class.clone(), forms);
        }
        Ok(self.ahead.get(&class).is_some_and(|forms| forms.contains(text)))
    }
}

/// Stands at a live posting of a class in one source.
struct Cursor<'a> {
    lists: CursorLists,
    /// For each ordinal of the source the new one, and for each of its forms.
    ordinals: &'a [u32],
    forms: Vec<u32>,
    /// The new ordinal of the record it stands at.
    record: u32,
}

enum CursorLists {
    Once { column: u8, position: u32 },
    Written(Box<WrittenLists>),
}

struct WrittenLists {
    postings: Postings,
    positions: Positions,
}

impl<'a> Cursor<'a> {
    /// Stands at the first live posting; none if there is none.
    fn open(
        reading: &mut ShelfReading<'_>,
        ordinals: &'a [u32],
        entry: &TermEntry,
        forms: Vec<u32>,
    ) -> Result<Option<Self>> {
        if let Lists::Once { ordinal, column, position } = entry.lists {
            let record = ordinals.get(ordinal as usize).copied();
            let record = record.ok_or_else(|| reading.broken(Section::Terms, Broken("an occurrence")))?;
            let lists = CursorLists::Once { column, position };
            return Ok((record != GONE).then_some(Self { lists, ordinals, forms, record }));
        }
        let postings = reading.read(|shelf, held| shelf.postings(held, entry))?;
        let positions = reading.read(|shelf, held| shelf.positions(held, entry))?;
        let lists = CursorLists::Written(Box::new(WrittenLists { postings, positions }));
        let mut cursor = Self { lists, ordinals, forms, record: GONE };
        Ok(cursor.advance()?.then_some(cursor))
    }

    /// Goes to the next live posting, if there is one.
    fn advance(&mut self) -> Result<bool> {
        let CursorLists::Written(lists) = &mut self.lists else { return Ok(false) };
        let postings = &mut lists.postings;
        while postings.advance()? {
            self.record = self.ordinals[postings.ordinal() as usize];
            if self.record != GONE {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// Appends the columns, positions and forms.
    fn places(&mut self, out: &mut Vec<(u8, u32, u32)>) -> Result<()> {
        match &mut self.lists {
            CursorLists::Once { column, position } => out.push((*column, *position, self.forms[0])),
            CursorLists::Written(lists) => {
                let WrittenLists { postings, positions } = &mut **lists;
                postings.read()?;
                let narrow = |column| u8::try_from(column).expect("a schema has at most 64 text columns");
                let own = postings.text_columns().own();
                positions.each(postings, own, |column, position, occurrence| {
                    out.push((narrow(column), position, self.forms[postings.form_at(occurrence) as usize]));
                })?;
            }
        }
        Ok(())
    }
}
