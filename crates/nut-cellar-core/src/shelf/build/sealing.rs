//! Sealing: what was gathered becomes a shelf, written from front to back.
//!
//! Packing is divided among as many threads as gathered; what is packed stands in the order of keys or terms, so nothing
//! shows who did it.

use crate::error::Result;
use crate::schema::Schema;
use crate::shelf::build::arrivals::Home;
use crate::shelf::build::arrivals::Keys;
use crate::shelf::build::buckets::{Buckets, Run};
use crate::shelf::build::classes::{Classes, term_of};
use crate::shelf::build::gathered;
use crate::shelf::build::log::TokenPlace;
use crate::shelf::build::output::{Output, Said};
use crate::shelf::build::part::Part;
use crate::shelf::build::posting_writer::PostingWriter;
use crate::shelf::build::threads::{in_order, in_threads};
use crate::shelf::build::vocabulary::{Unified, unify};
use crate::shelf::format::directory::Section;
use crate::shelf::format::kept::{self, KeptWriter};
use crate::shelf::format::keys;
use crate::shelf::format::lengths::Packed;
use crate::shelf::format::terms::{ClassEntry, Listed, TermEntry, TermWriter, read_name};
use crate::shelf::format::text_columns::TextColumns;
use crate::store::{PieceId, ShelfEntry, Unit};
use bytes::Bytes;
use std::cmp::Reverse;
use std::ops::Range;
use std::sync::Arc;

/// Writes a shelf of the records that have these keys, which ascend, and are at home there. A fleeting one is packed less.
pub(in crate::shelf) fn write(
    schema: &Schema,
    (block, fleeting): (u8, bool),
    parts: &mut [Part],
    (keys, homes): (&Keys, Vec<Home>),
    unit: &dyn Unit,
) -> Result<ShelfEntry> {
    let piece = PieceId::fresh()?;
    let mut out = Output::begin(unit.write(piece)?)?;
    let mut blocks = keys::writer();
    for key in keys.iter() {
        blocks.push_bare(key);
        blocks.stream(&mut out)?;
    }
    blocks.finish(&mut out, Section::Keys, Section::KeyIndex)?;

    let record = |place: usize| {
        let home: Home = homes[place];
        parts[home.part as usize].kept(home.record)
    };
    let bytes: u64 = (0..homes.len()).map(|place| record(place).len() as u64).sum();
    let worth = bytes >= kept::WORTH_A_DICTIONARY;
    let mut values = if fleeting {
        KeptWriter::stored()
    } else {
        let dictionary = if worth { kept::dictionary_of(homes.len(), record) } else { Bytes::new() };
        KeptWriter::new(&mut out, schema.packing(), dictionary)?
    };
    values.push_all(&mut out, parts.len(), homes.len(), record)?;
    values.finish(&mut out)?;
    parts.iter_mut().for_each(Part::forget_kept);

    let columns = Arc::new(TextColumns::of(schema));
    let mut lengths = Vec::with_capacity(columns.count());
    for column in 0..columns.count() {
        let of_column = |home: &Home| parts[home.part as usize].length(home.record, column);
        let of_column: Vec<_> = homes.iter().map(of_column).collect();
        let packed = Packed::of(&of_column);
        packed.write(&mut out)?;
        lengths.push(packed);
    }
    out.end(Section::Lengths);
    let mut values: Vec<Vec<_>> = parts[0].values.iter().map(|_| Vec::new()).collect();
    for part in &mut *parts {
        values.iter_mut().zip(part.values.drain(..)).for_each(|(all, (_, of_part))| all.push(of_part));
    }
    let value_columns = gathered::write(values, &homes, block.into(), &mut out)?;

    let records = u32::try_from(homes.len()).expect("arrivals are counted");
    let tokens = in_threads(parts.iter_mut().enumerate(), |(place, part)| part.count_tokens(place, &homes));
    let vocabularies = parts.iter().map(|part| &part.learned.terms.vocabulary);
    let mut unified = unify(&vocabularies.zip(tokens.iter().map(Vec::as_slice)).collect::<Vec<_>>());
    let classes = Classes::of(parts, &unified);
    let buckets = Buckets::of(parts, &homes, (&unified, &classes), &tokens);
    drop(tokens);
    unified.ranks = Vec::new();
    let lists = ListPacker {
        buckets,
        columns: &columns,
        lengths: &lengths,
        block: block.into(),
        parts,
        unified,
        classes,
    };
    let mut terms = TermWriter::new(columns.count());
    if !fleeting {
        terms = terms.with_grams();
    }
    lists.write(terms, &mut out)?;
    let stemmings = parts[0].learned.stemmings();
    let widths = lengths.iter().map(|column| column.width).collect();
    let lengths = lengths.iter().map(|column| column.sum).collect();
    out.seal(Said { piece, records, block, columns, widths, lengths, value_columns, stemmings })
}

/// What packing lists needs.
struct ListPacker<'a> {
    buckets: Buckets,
    columns: &'a Arc<TextColumns>,
    /// For each text column, for each record. A posting of a rare term asks for one far from the one before, and packed they
    /// are near.
    lengths: &'a [Packed],
    block: usize,
    parts: &'a [Part],
    unified: Unified,
    classes: Classes,
}

/// The forms of a list, in their order: slots, each with how many records have it; nothing of one form.
type Forms = Vec<(usize, u32)>;

/// Some lists, packed.
#[derive(Default)]
struct PackedShare {
    postings: Vec<u8>,
    positions: Vec<u8>,
    /// Lists by their numbers, with where they are in these bytes, and their forms.
    entries: Vec<(usize, TermEntry, Forms)>,
}

impl ListPacker<'_> {
    /// Writes the postings, the positions and the dictionary.
    fn write(&self, mut terms: TermWriter, out: &mut Output<'_>) -> Result<()> {
        let (mut written, mut positions, mut positions_end) = (0, Vec::new(), 0);
        // Terms that are forms of a class stand between the lists.
        let mut next = 0;
        let runs = self.buckets.runs();
        in_order(
            self.parts.len(),
            runs.len(),
            |run| self.pack(&runs[run]),
            |mut share| {
                for (list, mut entry, forms) in share.entries {
                    entry.move_lists(written, positions_end);
                    let own = self.term(self.classes.slots(list).start);
                    let name = self.classes.class(list).unwrap_or(own.as_bytes());
                    self.put_forms(&mut next, Some(name), &mut terms);
                    terms.push(name, &self.listed(list, entry, &forms));
                }
                written += share.postings.len() as u64;
                positions_end += share.positions.len() as u64;
                share.positions.shrink_to_fit();
                positions.push(share.positions);
                out.append(&share.postings)
            },
        )?;
        self.put_forms(&mut next, None, &mut terms);
        out.end(Section::Postings);
        positions.drain(..).try_for_each(|positions| out.append(&positions))?;
        out.end(Section::Positions);
        terms.write(out)
    }

    /// The name of the term of a slot.
    fn term(&self, slot: usize) -> &str {
        term_of(self.parts, &self.unified, self.classes.rank(slot))
    }

    /// What the dictionary has for a list.
    fn listed(&self, list: usize, whole: TermEntry, forms: &[(usize, u32)]) -> Listed {
        if self.classes.class(list).is_none() {
            return Listed::Own(whole);
        }
        let text = |name: &str| name.split('\0').next().unwrap_or_default().to_owned();
        let only = [(self.classes.slots(list).start, whole.records)];
        let forms = if forms.is_empty() { &only } else { forms };
        let forms = forms.iter().map(|&(slot, records)| (text(self.term(slot)), records)).collect();
        Listed::Class(ClassEntry { forms, whole })
    }

    /// Puts the terms from a rank on that come before a name, or all, and are forms of a class.
    fn put_forms(&self, next: &mut usize, before: Option<&[u8]>, terms: &mut TermWriter) {
        while *next < self.unified.len() {
            let term = term_of(self.parts, &self.unified, *next).as_bytes();
            if before.is_some_and(|name| term >= name) {
                // It may be the one with that name.
                *next += usize::from(before == Some(term));
                return;
            }
            if let Some(class) = self.classes.class_of(*next) {
                let (key, ..) = read_name(class).expect("names of classes are made so");
                terms.push(term, &Listed::Form(key.into()));
            }
            *next += 1;
        }
    }

    fn pack(&self, run: &Run) -> PackedShare {
        let mut writer = PostingWriter::new(self.block, self.columns);
        let mut packed = PackedShare::default();
        self.buckets.each(run, &self.classes, |list, tokens| {
            let slots = self.classes.slots(list);
            let forms = if slots.len() > 1 { forms_of(slots.clone(), tokens) } else { Forms::new() };
            let entry = if let [(place, _)] = tokens {
                Some(TermEntry::once(place.record(), place.column(), place.position()))
            } else {
                let mut number = vec![0; forms.len()];
                for (place, (slot, _)) in (0..).zip(&forms) {
                    number[slot - slots.start] = place;
                }
                writer.begin(tokens.len(), slots.len());
                for record in tokens.chunk_by(|a, b| a.0.record() == b.0.record()) {
                    let ordinal = record[0].0.record();
                    let places = record.iter().map(|(place, slot)| {
                        let form = number.get(*slot as usize - slots.start);
                        (place.column(), place.position(), form.copied().unwrap_or(0))
                    });
                    writer.push(ordinal, places, |column| self.lengths[column].get(ordinal));
                }
                writer.finish((&mut packed.postings, 0), (&mut packed.positions, 0))
            };
            packed.entries.extend(entry.map(|entry| (list, entry, forms)));
        });
        packed
    }
}

/// The forms of a list, which has these slots and tokens: by falling records, then in the order of the slots, which is that of the texts.
fn forms_of(slots: Range<usize>, tokens: &[(TokenPlace, u32)]) -> Forms {
    let mut forms: Vec<_> = slots.clone().map(|slot| (slot, 0)).collect();
    let mut last = vec![None; forms.len()];
    for (place, slot) in tokens {
        let form = *slot as usize - slots.start;
        forms[form].1 += u32::from(last[form].replace(place.record()) != Some(place.record()));
    }
    forms.sort_by_key(|(_, records)| Reverse(*records));
    forms
}
