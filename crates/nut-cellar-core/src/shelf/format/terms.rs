//! The dictionary: the terms of a shelf and the classes of their forms, in order, each with where its list is.
//!
//! The forms of a word (see [`Recipe::key_of`](crate::text::Recipe::key_of)) are a *class*, and have one list together. A term that is its own
//! key and has no other forms has its list by its own name; any other leads to its class by the key. A stemming, by which terms
//! are made and have keys, has a number in the shelf, and a dictionary of its own, which lies in the same one.

use crate::error::Result;
use crate::shelf::build::output::Output;
use crate::shelf::format::directory::Section;
use crate::shelf::format::entries::{Entries, common};
use crate::shelf::format::grams::{GROUP, GramWriter};
use crate::shelf::format::sorted::{PartBytes, SortedWriter, first_entry, parts_of};
use crate::shelf::read::held::{Held, Step};
use crate::shelf::read::reader::Shelf;
use crate::wire::{Broken, Reader, put_varint};
use std::cmp::Ordering;
use std::ops::Range;
use std::sync::Arc;

/// Terms in a block, of which a lookup reads one.
pub(in crate::shelf) const PER_BLOCK: usize = 256;
/// In the lowest two bits of the first number of a payload: it is of a class of so many forms, or if these are none, of a form of one. With 1 in
/// the lowest bit it is of what occurs once, and else of a list.
const OTHERS: u64 = 2;
/// So many bytes of a text may be those of another.
const BESIDE: usize = 15;

/// Where a term is found, or a whole class.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct TermEntry {
    /// The number of records it is in, the removed ones included.
    pub records: u32,
    /// Where the list of its class is.
    pub lists: Lists,
    /// How many postings that has, and of how many forms.
    pub in_list: u32,
    pub forms: u32,
    /// Which of the forms the term is; none of a whole class, and where there is only one.
    pub form: Option<u32>,
    /// The number of the stemming, and the key of the class.
    pub stemming: u8,
    pub key: Arc<str>,
}

impl TermEntry {
    /// All of a list of so many postings of so many forms.
    pub fn new(lists: Lists, records: u32, forms: u32) -> Self {
        Self { records, lists, in_list: records, forms, form: None, stemming: 0, key: Arc::default() }
    }

    /// Of a term that occurs once.
    pub fn once(ordinal: u32, column: u8, position: u32) -> Self {
        Self::new(Lists::Once { ordinal, column, position }, 1, 1)
    }

    /// Moves the lists so far from the beginnings of their sections.
    pub fn move_lists(&mut self, by_postings: u64, by_positions: u64) {
        if let Lists::Written { postings, positions, .. } = &mut self.lists {
            *postings = postings.start + by_postings..postings.end + by_postings;
            *positions = positions.start + by_positions..positions.end + by_positions;
        }
    }

    /// How often a term of the list occurs.
    pub fn occurrences(&self) -> u64 {
        match self.lists {
            Lists::Once { .. } => 1,
            Lists::Written { occurrences, .. } => occurrences,
        }
    }

    /// Whether it has the same list as another one of its shelf.
    pub fn is_of_list(&self, other: &Self) -> bool {
        self.stemming == other.stemming && self.key == other.key
    }
}

/// A class of several forms, or of one that is not its own key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct ClassEntry {
    /// Its forms by falling records, then as texts, each with the number of records that have it, the removed ones included.
    pub forms: Vec<(String, u32)>,
    /// All of them.
    pub whole: TermEntry,
}

impl ClassEntry {
    /// One of its forms.
    pub fn form(&self, place: usize) -> TermEntry {
        let form = (self.forms.len() > 1).then(|| u32::try_from(place).unwrap_or(u32::MAX));
        TermEntry { records: self.forms[place].1, form, ..self.whole.clone() }
    }

    /// A form as a text, if it is one of them.
    pub fn find(&self, term: &str) -> Option<TermEntry> {
        self.forms.iter().position(|(form, _)| form == term).map(|place| self.form(place))
    }
}

/// What stands in the dictionary.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Listed {
    /// A term that is its own key, and the only form.
    Own(TermEntry),
    /// A term that is a form of the class with this key.
    Form(Vec<u8>),
    /// A class.
    Class(ClassEntry),
}

/// The name by which the dictionary has a term, or the class with a key: the text; for all stemmings but the first a zero byte and the number;
/// for a class another zero byte. So what a term may be stands next to each other.
pub(in crate::shelf) fn name(text: &[u8], stemming: u8, is_class: bool) -> Vec<u8> {
    let mut name = Vec::with_capacity(text.len() + 3);
    name.extend_from_slice(text);
    if stemming > 0 {
        name.extend_from_slice(&[0, stemming]);
    }
    if is_class {
        name.push(0);
    }
    name
}

/// The name of the term that a class has its name of: names of classes stand in the order of these, each behind it.
pub(in crate::shelf) fn own_name(class: &[u8]) -> &[u8] {
    &class[..class.len() - 1]
}

/// The text of a name: what it has before its first zero byte.
pub(crate) fn text_of(name: &[u8]) -> &[u8] {
    name.split(|byte| *byte == 0).next().unwrap_or_default()
}

/// The text of a name, the number of the stemming, and whether it is that of a class.
pub(in crate::shelf) fn read_name(name: &[u8]) -> Result<(&str, u8, bool), Broken> {
    let end = text_of(name).len();
    let text = str::from_utf8(&name[..end]).map_err(|_| Broken("a term"))?;
    match &name[end..] {
        [] => Ok((text, 0, false)),
        [_] => Ok((text, 0, true)),
        [_, stemming] if *stemming > 0 => Ok((text, *stemming, false)),
        [_, stemming, 0] if *stemming > 0 => Ok((text, *stemming, true)),
        _ => Err(Broken("a term")),
    }
}

/// Where the lists of a term are.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Lists {
    /// The term occurs once, as most do: here.
    Once {
        /// The record.
        ordinal: u32,
        /// The text column.
        column: u8,
        /// The position in it.
        position: u32,
    },
    /// It has lists.
    Written {
        /// How often the term occurs.
        occurrences: u64,
        /// Its postings, counted from the beginning of their section.
        postings: Range<u64>,
        /// Its positions, counted from the beginning of their section.
        positions: Range<u64>,
    },
}

/// Packs the terms. The lists of the terms follow one another without gaps, so an entry needs only their
/// lengths; the first of a part also says where they begin.
pub(in crate::shelf) struct TermWriter {
    blocks: SortedWriter,
    columns: u64,
    ends: Ends,
    /// None where terms are not to be found by their letters.
    grams: Option<GramWriter>,
}

/// Where the lists of the terms so far end in their sections.
#[derive(Clone, Copy, Debug, Default)]
pub(in crate::shelf) struct Ends {
    postings: u64,
    positions: u64,
}

impl TermWriter {
    /// For a schema of so many text columns.
    pub fn new(columns: usize) -> Self {
        let blocks = SortedWriter::of_parts(PER_BLOCK, GROUP);
        Self { blocks, columns: columns as u64, ends: Ends::default(), grams: None }
    }

    /// Writes what finds terms by their letters, too.
    pub fn with_grams(self) -> Self {
        Self { grams: Some(GramWriter::default()), ..self }
    }

    /// Takes what has a name that is greater than the one before.
    pub fn push(&mut self, name: &[u8], listed: &Listed) {
        let text = text_of(name);
        if let Some(grams) = &mut self.grams {
            match listed {
                Listed::Class(_) => grams.push_none(),
                Listed::Own(_) | Listed::Form(_) => grams.push(&String::from_utf8_lossy(text)),
            }
        }
        let (columns, ends) = (self.columns, &mut self.ends);
        self.blocks.push(name, |block, first| {
            if first {
                put_varint(block, ends.postings);
                put_varint(block, ends.positions);
            }
            match listed {
                Listed::Own(entry) => put_list(block, entry, columns, ends),
                Listed::Form(key) => {
                    put_varint(block, OTHERS);
                    put_beside(block, text, key);
                }
                Listed::Class(class) => {
                    put_varint(block, (class.forms.len() as u64) << 2 | OTHERS);
                    for (term, records) in &class.forms {
                        put_beside(block, text, term.as_bytes());
                        if class.forms.len() > 1 {
                            put_varint(block, u64::from(*records));
                        }
                    }
                    put_list(block, &class.whole, columns, ends);
                }
            }
        });
    }

    /// Writes the terms, what finds them by their middles, and the indexes of both.
    pub fn write(self, out: &mut Output<'_>) -> Result<()> {
        self.blocks.finish(out, Section::Terms, Section::TermIndex)?;
        if let Some(grams) = self.grams {
            return grams.write(out);
        }
        out.end(Section::Grams);
        out.end(Section::GramIndex);
        Ok(())
    }
}

/// Appends where a list is.
fn put_list(block: &mut Vec<u8>, entry: &TermEntry, columns: u64, ends: &mut Ends) {
    match &entry.lists {
        Lists::Once { ordinal, column, position } => {
            put_varint(block, u64::from(*ordinal) * 2 + 1);
            put_varint(block, u64::from(*position) * columns + u64::from(*column));
        }
        Lists::Written { occurrences, postings, positions } => {
            put_varint(block, u64::from(entry.records) << 2);
            put_varint(block, occurrences - u64::from(entry.records));
            put_varint(block, postings.end - postings.start);
            put_varint(block, positions.end - positions.start);
            *ends = Ends { postings: postings.end, positions: positions.end };
        }
    }
}

/// Appends a text by how many bytes, 15 at most, it shares with the beginning of another one, and the others: a varint with how many these
/// are, times 16, plus how many it shares; and these.
fn put_beside(block: &mut Vec<u8>, known: &[u8], text: &[u8]) {
    let shared = common(known, text).min(BESIDE);
    put_varint(block, ((text.len() - shared) << 4 | shared) as u64);
    block.extend_from_slice(&text[shared..]);
}

/// Reads what [`put_beside`] appended.
fn beside(from: &mut Reader<'_>, known: &[u8]) -> Result<Vec<u8>, Broken> {
    let both = from.size()?;
    let shared = known.get(..both & BESIDE).ok_or(Broken("a form"))?;
    Ok([shared, from.take(both >> 4)?].concat())
}

/// The part, from one on, that has a term if any of these has: the last whose first term is not greater, or else that one.
pub(in crate::shelf) fn part_with(
    parts: &[PartBytes<'_>],
    first: usize,
    term: &[u8],
) -> Result<usize, Broken> {
    let (mut low, mut high) = (first + 1, parts.len());
    while low < high {
        let middle = usize::midpoint(low, high);
        if first_entry(parts[middle].0)? <= term {
            low = middle + 1;
        } else {
            high = middle;
        }
    }
    Ok(low - 1)
}

/// Goes through the terms of a part of a block; reads what belongs to a term when it is asked for.
pub(in crate::shelf) struct TermPart<'a> {
    entries: Entries<'a>,
    payloads: Reader<'a>,
    columns: usize,
    /// So many terms have been gone through, of so many the payloads were read, and the last of these.
    gone: usize,
    read: usize,
    last: Option<Listed>,
    ends: Option<Ends>,
}

impl<'a> TermPart<'a> {
    /// A part that [`parts_of`] gave, of a shelf with so many text columns.
    pub fn new(columns: usize, (entries, payloads): PartBytes<'a>) -> Self {
        Self {
            entries: Entries::new(entries),
            payloads: Reader::new(payloads),
            columns,
            gone: 0,
            read: 0,
            last: None,
            ends: None,
        }
    }

    /// Goes to the next term, if there is one.
    pub fn advance(&mut self) -> Result<bool, Broken> {
        if !self.entries.advance()? {
            return Ok(false);
        }
        self.gone += 1;
        Ok(true)
    }

    /// Goes to the first term that is no less than `wanted`, which the one at which it stands is, if there is one.
    pub fn advance_over(&mut self, wanted: &[u8]) -> Result<bool, Broken> {
        let passed = self.entries.advance_over(wanted)?;
        self.gone += passed.map_or(0, |passed| passed + 1);
        Ok(passed.is_some())
    }

    /// The name at which it stands.
    pub fn name(&self) -> &[u8] {
        self.entries.entry()
    }

    /// What has that name.
    pub fn listed(&mut self) -> Result<Listed, Broken> {
        if self.read < self.gone {
            while self.read + 1 < self.gone {
                pass(&mut self.payloads, &mut self.ends)?;
                self.read += 1;
            }
            let Self { entries, payloads, ends, columns, .. } = self;
            self.last = Some(payload(payloads, ends, *columns, entries.entry())?);
            self.read = self.gone;
        }
        self.last.clone().ok_or(Broken("a term"))
    }

    /// Whether all payloads have been read, and no more are there.
    fn is_done(&self) -> bool {
        self.read == self.gone && self.payloads.is_empty()
    }
}

/// Where the lists before a term end: at the beginning of a part, where nothing is known of them, it says so.
fn ends_before<'e>(from: &mut Reader<'_>, ends: &'e mut Option<Ends>) -> Result<&'e mut Ends, Broken> {
    Ok(match ends {
        Some(ends) => ends,
        none => none.insert(Ends { postings: from.varint()?, positions: from.varint()? }),
    })
}

/// Passes over where a list is; `first` is the number that it begins with.
fn pass_list(first: u64, from: &mut Reader<'_>, ends: &mut Ends) -> Result<(), Broken> {
    from.varint()?;
    if first.is_multiple_of(2) {
        next_range(&mut ends.postings, from)?;
        next_range(&mut ends.positions, from)?;
    }
    Ok(())
}

/// Passes over what belongs to a name.
fn pass(from: &mut Reader<'_>, ends: &mut Option<Ends>) -> Result<(), Broken> {
    let ends = ends_before(from, ends)?;
    let mut first = from.varint()?;
    let pass_beside = |from: &mut Reader<'_>| {
        let both = from.size()?;
        from.take(both >> 4).map(|_| ())
    };
    if first & 3 == OTHERS {
        let forms = first >> 2;
        if forms == 0 {
            return pass_beside(from);
        }
        for _ in 0..forms {
            pass_beside(from)?;
            if forms > 1 {
                from.varint()?;
            }
        }
        first = from.varint()?;
    }
    pass_list(first, from, ends)
}

/// Reads where a list of so many forms is; `first` is the number that it begins with.
fn list(
    first: u64,
    forms: u32,
    from: &mut Reader<'_>,
    ends: &mut Ends,
    columns: usize,
) -> Result<TermEntry, Broken> {
    if first % 2 == 1 {
        let ordinal = u32::try_from(first / 2).map_err(|_| Broken("a number of 32 bits"))?;
        let place = from.varint()?;
        let column = u8::try_from(place % columns as u64).map_err(|_| Broken("a column"))?;
        let position = u32::try_from(place / columns as u64).map_err(|_| Broken("a position"))?;
        return if forms == 1 {
            Ok(TermEntry::once(ordinal, column, position))
        } else {
            Err(Broken("a class"))
        };
    }
    let records = u32::try_from(first >> 2).map_err(|_| Broken("a number of 32 bits"))?;
    if first & 3 == OTHERS || records == 0 {
        return Err(Broken("the records of a term"));
    }
    let occurrences =
        from.varint()?.checked_add(records.into()).ok_or(Broken("the occurrences of a term"))?;
    let postings = next_range(&mut ends.postings, from)?;
    let positions = next_range(&mut ends.positions, from)?;
    Ok(TermEntry::new(Lists::Written { occurrences, postings, positions }, records, forms))
}

/// Reads what belongs to a name; `ends` is where the lists before it end, none at the beginning of a part.
fn payload(
    from: &mut Reader<'_>,
    ends: &mut Option<Ends>,
    columns: usize,
    name: &[u8],
) -> Result<Listed, Broken> {
    let ends = ends_before(from, ends)?;
    let (text, stemming, is_class) = read_name(name)?;
    let first = from.varint()?;
    let forms = u32::try_from(first >> 2).unwrap_or(u32::MAX);
    if is_class != (first & 3 == OTHERS && forms > 0) {
        return Err(Broken("a class"));
    }
    if !is_class && first & 3 == OTHERS {
        return beside(from, text.as_bytes()).map(Listed::Form);
    }
    if !is_class {
        let whole = list(first, 1, from, ends, columns)?;
        return Ok(Listed::Own(TermEntry { stemming, key: text.into(), ..whole }));
    }
    let mut terms = Vec::with_capacity(from.left().min(forms as usize));
    for _ in 0..forms {
        let term = String::from_utf8(beside(from, text.as_bytes())?).map_err(|_| Broken("a form"))?;
        terms.push((term, if forms > 1 { from.varint_u32()? } else { 0 }));
    }
    let first = from.varint()?;
    let whole = TermEntry { stemming, key: text.into(), ..list(first, forms, from, ends, columns)? };
    if let [(_, records)] = &mut terms[..] {
        *records = whole.records;
    }
    Ok(Listed::Class(ClassEntry { forms: terms, whole }))
}

/// Looks for a name in a block.
fn find_in(columns: usize, block: &[u8], name: &[u8]) -> Result<Option<Listed>, Broken> {
    let (parts, count) = parts_of(block)?;
    let wanted = part_with(&parts[..count], 0, name)?;
    let mut part = TermPart::new(columns, parts[wanted]);
    while part.advance()? {
        match part.name().cmp(name) {
            Ordering::Less => {}
            Ordering::Equal => return part.listed().map(Some),
            Ordering::Greater => return Ok(None),
        }
    }
    Ok(None)
}

/// The range from the end before, which becomes the end of this one.
fn next_range(end: &mut u64, from: &mut Reader<'_>) -> Result<Range<u64>, Broken> {
    let start = *end;
    *end = start.checked_add(from.varint()?).ok_or(Broken("the length of a list"))?;
    Ok(start..*end)
}

impl Shelf {
    /// What has a name in the dictionary.
    pub(in crate::shelf) fn find_listed(
        self: &Arc<Self>,
        held: &mut Held,
        name: &[u8],
    ) -> Step<Option<Listed>> {
        let index = self.index_of(held, Section::Terms)?;
        let Some(block) = self.locate(Section::Terms, &index, name)? else { return Ok(None) };
        let bytes = self.block_of(held, Section::Terms, &index, block)?;
        Ok(find_in(self.columns(), &bytes, name).map_err(|what| self.broken(Section::Terms, what))?)
    }

    /// What stands in block `block` of the dictionary, in order, by its names; none past the last.
    pub(in crate::shelf) fn terms_in(
        self: &Arc<Self>,
        held: &mut Held,
        block: usize,
    ) -> Step<Vec<(Vec<u8>, Listed)>> {
        let index = self.index_of(held, Section::Terms)?;
        if block >= index.blocks() {
            return Ok(Vec::new());
        }
        let bytes = self.block_of(held, Section::Terms, &index, block)?;
        let all = || {
            let mut all = Vec::new();
            let (parts, count) = parts_of(&bytes)?;
            for (number, part) in parts[..count].iter().enumerate() {
                let mut part = TermPart::new(self.columns(), *part);
                while part.advance()? {
                    let listed = part.listed()?;
                    all.push((part.name().to_vec(), listed));
                }
                // Groups of terms are found by the places of parts.
                if !part.is_done() || (number + 1 < count && part.gone != GROUP) {
                    return Err(Broken("the terms of a part"));
                }
            }
            Ok(all)
        };
        Ok(all().map_err(|what| self.broken(Section::Terms, what))?)
    }

    /// The most groups of terms that there may be.
    pub(in crate::shelf) fn term_groups(self: &Arc<Self>, held: &mut Held) -> Step<usize> {
        Ok(self.index_of(held, Section::Terms)?.blocks() * (PER_BLOCK / GROUP))
    }
}
