//! Sealing: what was gathered becomes a shelf, written from front to back.
//!
//! Packing is divided among as many threads as gathered; what is packed stands in the order of keys or terms, so nothing
//! shows who did it.

use crate::error::Result;
use crate::schema::Schema;
use crate::shelf::build::arrivals::Home;
use crate::shelf::build::arrivals::Keys;
use crate::shelf::build::buckets::Buckets;
use crate::shelf::build::gathered;
use crate::shelf::build::output::{Output, Said};
use crate::shelf::build::part::Part;
use crate::shelf::build::posting_writer::PostingWriter;
use crate::shelf::build::threads::{in_order, in_threads};
use crate::shelf::build::vocabulary::{Unified, unify};
use crate::shelf::format::directory::Section;
use crate::shelf::format::forms::FormWriter;
use crate::shelf::format::kept::{self, KeptWriter};
use crate::shelf::format::keys;
use crate::shelf::format::lengths::Packed;
use crate::shelf::format::terms::{TermEntry, TermWriter};
use crate::store::{PieceId, ShelfEntry, Unit};
use bytes::Bytes;

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

    let columns = schema.text_columns().count();
    let mut lengths = Vec::with_capacity(columns);
    for column in 0..columns {
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
    let tokens = in_threads(parts.iter_mut(), Part::count_tokens);
    let vocabularies = parts.iter().map(|part| &part.learned.terms.vocabulary);
    let unified = unify(&vocabularies.zip(tokens.iter().map(Vec::as_slice)).collect::<Vec<_>>());
    let buckets = Buckets::of(parts, &homes, &unified, &tokens);
    drop(tokens);
    let lists = ListPacker { buckets, lengths: &lengths, block: block.into() };
    let mut terms = TermWriter::new(columns);
    if !fleeting {
        terms = terms.with_grams();
    }
    let used = lists.write(parts, &unified, terms, &mut out)?;
    write_forms(parts, &used, &mut out)?;
    let widths = lengths.iter().map(|column| column.width).collect();
    let lengths = lengths.iter().map(|column| column.sum).collect();
    out.seal(Said { piece, records, block, widths, lengths, value_columns })
}

/// What packing lists needs.
struct ListPacker<'a> {
    buckets: Buckets,
    /// For each text column, for each record. A posting of a rare term asks for one far from the one before, and packed they
    /// are near.
    lengths: &'a [Packed],
    block: usize,
}

/// The lists of some terms, packed.
#[derive(Default)]
struct PackedShare {
    postings: Vec<u8>,
    positions: Vec<u8>,
    /// Terms by their ranks, with where their lists are in these bytes.
    entries: Vec<(usize, TermEntry)>,
}

impl ListPacker<'_> {
    /// Writes the postings, the positions and the terms; gives the terms that some record has, by part and number.
    fn write(
        self,
        parts: &[Part],
        unified: &Unified,
        mut terms: TermWriter,
        out: &mut Output<'_>,
    ) -> Result<Vec<(u32, u32)>> {
        let (mut written, mut positions) = (0, Vec::new());
        let mut used = Vec::with_capacity(unified.len());
        in_order(
            parts.len(),
            self.buckets.len(),
            |bucket| self.pack(bucket),
            |share| {
                for (rank, mut entry) in share.entries {
                    entry.move_lists(written, positions.len() as u64);
                    let (part, number) = unified.order[rank];
                    used.push((part, number));
                    terms.push(parts[part as usize].learned.terms.vocabulary.term(number), &entry);
                }
                written += share.postings.len() as u64;
                positions.extend_from_slice(&share.positions);
                out.append(&share.postings)
            },
        )?;
        out.end(Section::Postings);
        out.append(&positions)?;
        drop(positions);
        out.end(Section::Positions);
        terms.write(out)?;
        Ok(used)
    }

    fn pack(&self, bucket: usize) -> PackedShare {
        let mut list = PostingWriter::new(self.block, self.lengths.len());
        let mut packed = PackedShare::default();
        self.buckets.each(bucket, |rank, places| {
            if let [place] = places {
                let entry = TermEntry::once(place.record(), place.column(), place.position());
                packed.entries.push((rank, entry));
                return;
            }
            list.begin(places.len());
            for record in places.chunk_by(|a, b| a.record() == b.record()) {
                let ordinal = record[0].record();
                let places = record.iter().map(|place| (place.column(), place.position()));
                list.push(ordinal, places, |column| self.lengths[column].get(ordinal));
            }
            let entry = list.finish((&mut packed.postings, 0), (&mut packed.positions, 0));
            packed.entries.extend(entry.map(|entry| (rank, entry)));
        });
        packed
    }
}

/// Writes the classes of forms among these terms, by part and number, for each recipe that keeps forms apart. Which columns a
/// term is in does not matter, so that a class depends on the terms alone.
fn write_forms(parts: &mut [Part], terms: &[(u32, u32)], out: &mut Output<'_>) -> Result<()> {
    // A class begins with what names its recipe, so the classes of one recipe follow those of another.
    let recipes = parts[0].learned.classes();
    let mut numbers = vec![Vec::new(); parts.len()];
    for &(part, number) in terms {
        numbers[part as usize].push(number);
    }
    let mut forms = FormWriter::new();
    for (beginning, place) in recipes {
        let keyed =
            in_threads(parts.iter_mut().zip(&numbers), |(part, numbers)| part.learned.keyed(place, numbers));
        let mut keyed = keyed.concat();
        keyed.sort_unstable();
        for class in keyed.chunk_by(|(a, _), (b, _)| a == b) {
            let name = format!("{beginning}{}", class[0].0);
            forms.push(name.as_bytes(), class.iter().map(|(_, term)| *term));
        }
    }
    forms.write(out)
}
