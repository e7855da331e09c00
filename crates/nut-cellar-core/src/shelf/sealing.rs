//! Sealing: what was gathered becomes a shelf, written from front to back.
//!
//! Packing is divided among as many threads as gathered; what is packed stands in the order of keys or terms, so nothing
//! shows who did it.

use super::arrivals::Keys;
use super::builder::{Home, in_threads};
use super::directory::Section;
use super::forms::FormWriter;
use super::kept::KeptWriter;
use super::lengths::Packed;
use super::log::{self, Place};
use super::output::{Output, Said};
use super::part::Part;
use super::postings::PostingWriter;
use super::terms::{TermEntry, TermWriter};
use super::vocabulary::{Unified, Vocabulary, unify};
use super::{gathered, keys};
use crate::error::Result;
use crate::schema::Schema;
use crate::store::{PieceId, ShelfEntry, Unit};
use crate::text::Recipe;
use std::collections::BTreeMap;
use std::ops::Range;

/// So many tokens are packed by one thread before all threads join: enough to be worth it, few enough to wait in memory.
const AT_ONCE: usize = 1 << 17;

/// Writes a shelf of the records that have these keys, which ascend, and are at home there.
pub(super) fn write(
    schema: &Schema,
    block: u8,
    mut parts: Vec<Part>,
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

    let mut kept = KeptWriter::new(schema.packing(), parts.len());
    for home in &homes {
        kept.push(&mut out, parts[home.part as usize].kept(home.record))?;
    }
    kept.finish(&mut out)?;
    parts.iter_mut().for_each(Part::forget_kept);

    let columns = schema.text_columns().count();
    let (mut widths, mut sums, mut lengths) = (Vec::new(), Vec::new(), Vec::new());
    for column in 0..columns {
        let of_column = |home: &Home| parts[home.part as usize].length(home.record, column);
        let of_column: Vec<_> = homes.iter().map(of_column).collect();
        let packed = Packed::of(&of_column);
        packed.write(&mut out)?;
        widths.push(packed.width);
        sums.push(packed.sum);
        lengths.push(of_column);
    }
    out.end(Section::Lengths);
    let value_columns = gathered::write(&mut parts, &homes, block.into(), &mut out)?;

    let records = u32::try_from(homes.len()).expect("arrivals are counted");
    let vocabularies: Vec<_> = parts.iter().map(|part| &part.vocabulary).collect();
    let unified = unify(&vocabularies);
    let lists = Lists::of(&mut parts, homes, &unified);
    let lists = Packing { lists, lengths, block: block.into(), columns };
    let used = lists.write(&parts, &unified, &mut out)?;
    write_forms(&parts, &used, &mut out)?;
    out.seal(Said { piece, records, block, widths, lengths: sums, value_columns })
}

/// Where each term stands: of each slice of the records, for each term in order, its places.
struct Lists {
    slices: Vec<(Vec<usize>, Vec<Place>)>,
}

impl Lists {
    /// Sorts the tokens of all records by term; takes them out of the parts.
    fn of(parts: &mut [Part], homes: Vec<Home>, unified: &Unified) -> Self {
        let logs: Vec<_> = parts.iter_mut().map(|part| part.log.take()).collect();
        let terms = unified.len();
        let each = homes.len().div_ceil(parts.len()).max(1);
        let slices = (0..).step_by(each).zip(homes.chunks(each));
        let slices = in_threads(slices, |(first, homes)| {
            let first = u32::try_from(first).expect("arrivals are counted");
            log::scatter(&logs, homes, first, &unified.ranks, terms)
        });
        Self { slices }
    }

    /// How many tokens the terms before this one have.
    fn tokens_before(&self, term: usize) -> usize {
        self.slices.iter().map(|(starts, _)| starts[term]).sum()
    }

    /// The places of a term, ascending, in a few runs.
    fn places(&self, term: usize) -> impl Iterator<Item = &[Place]> {
        self.slices.iter().map(move |(starts, places)| &places[starts[term]..starts[term + 1]])
    }
}

/// What packing lists needs.
struct Packing {
    lists: Lists,
    /// For each text column, for each record.
    lengths: Vec<Vec<u32>>,
    block: usize,
    columns: usize,
}

/// What one thread has packed.
struct PackedLists {
    list: PostingWriter,
    postings: Vec<u8>,
    positions: Vec<u8>,
    /// Terms by their ranks, with where their lists are in these bytes.
    entries: Vec<(usize, TermEntry)>,
}

impl Packing {
    /// Writes the postings, the positions and the terms; gives the terms that some record has, by part and number.
    fn write(&self, parts: &[Part], unified: &Unified, out: &mut Output<'_>) -> Result<Vec<(u32, u32)>> {
        let mut terms = TermWriter::new(self.columns);
        let (mut written, mut positions) = (0, Vec::new());
        let mut used = Vec::with_capacity(unified.len());
        let mut workers: Vec<_> = parts.iter().map(|_| self.worker()).collect();
        let mut rank = 0;
        while rank < unified.len() {
            let mut shares = Vec::new();
            for _ in 0..workers.len() {
                let share = self.share(rank, unified.len());
                rank = share.end;
                shares.push(share);
            }
            in_threads(workers.iter_mut().zip(shares), |(worker, share)| self.pack(worker, share));
            for worker in &mut workers {
                for (rank, mut entry) in worker.entries.drain(..) {
                    entry.move_lists(written, positions.len() as u64);
                    let (part, number) = unified.order[rank];
                    used.push((part, number));
                    terms.push(parts[part as usize].vocabulary.term(number), &entry);
                }
                written += worker.postings.len() as u64;
                out.append(&worker.postings)?;
                positions.extend_from_slice(&worker.positions);
                worker.postings.clear();
                worker.positions.clear();
            }
        }
        drop(workers);
        out.end(Section::Postings);
        out.append(&positions)?;
        drop(positions);
        out.end(Section::Positions);
        terms.write(out)?;
        Ok(used)
    }

    fn worker(&self) -> PackedLists {
        let list = PostingWriter::new(self.block, self.columns);
        PackedLists { list, postings: Vec::new(), positions: Vec::new(), entries: Vec::new() }
    }

    /// The terms from this one on that one thread packs before all join.
    fn share(&self, first: usize, terms: usize) -> Range<usize> {
        let most = self.lists.tokens_before(first) + AT_ONCE;
        let (mut low, mut high) = (first.min(terms), terms);
        while low < high {
            let middle = usize::midpoint(low, high);
            if self.lists.tokens_before(middle + 1) <= most {
                low = middle + 1;
            } else {
                high = middle;
            }
        }
        // A term with more tokens than that is one share.
        first..low.max((first + 1).min(terms))
    }

    fn pack(&self, worker: &mut PackedLists, share: Range<usize>) {
        let mut places = Vec::new();
        for rank in share {
            places.clear();
            self.lists.places(rank).for_each(|run| places.extend_from_slice(run));
            if let [place] = places[..] {
                let entry = TermEntry::once(place.record(), place.column(), place.position());
                worker.entries.push((rank, entry));
                continue;
            }
            worker.list.begin(places.len());
            for record in places.chunk_by(|a, b| a.record() == b.record()) {
                let ordinal = record[0].record();
                let places = record.iter().map(|place| (place.column(), place.position()));
                worker.list.push(ordinal, places, |column| self.lengths[column][ordinal as usize]);
            }
            if let Some(entry) = worker.list.finish((&mut worker.postings, 0), (&mut worker.positions, 0)) {
                worker.entries.push((rank, entry));
            }
        }
    }
}

/// Writes the classes of forms among these terms, for each recipe that keeps forms apart. Which columns a term is in does
/// not matter, so that a class depends on the terms alone.
fn write_forms(parts: &[Part], terms: &[(u32, u32)], out: &mut Output<'_>) -> Result<()> {
    // A class begins with what names its recipe, so the classes of one recipe follow those of another.
    let recipes: BTreeMap<String, &Recipe> =
        parts[0].recipes().map(|recipe| (recipe.class(""), recipe)).collect();
    let vocabulary = |part: u32| -> &Vocabulary { &parts[part as usize].vocabulary };
    let mut forms = FormWriter::new();
    for recipe in recipes.into_values() {
        let key = |&(part, number): &(u32, u32)| {
            let term = vocabulary(part).term(number);
            Some((recipe.key_of(term).filter(|key| key != term)?, term))
        };
        let slices = terms.chunks(terms.len().div_ceil(parts.len()).max(1));
        let keyed = in_threads(slices, |slice| slice.iter().filter_map(key).collect::<Vec<_>>());
        let mut keyed = keyed.concat();
        keyed.sort_unstable();
        for class in keyed.chunk_by(|(a, _), (b, _)| a == b) {
            forms.push(recipe.class(&class[0].0).as_bytes(), class.iter().map(|(_, term)| *term));
        }
    }
    forms.write(out)
}
