//! `load`: records from files into a cellar in a folder.

use crate::adopt::read_schema;
use crate::arguments;
use crate::paint::count;
use crate::propose::{self, Proposal};
use crate::source::{Fields, Source};
use crate::target::Target;
use crc32fast::Hasher;
use nut_cellar::{Batch, Cellar, Error, ErrorKind, Folder, Record, Result, Schema};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::BTreeSet;
use std::fs::{self, File};
use std::io::Write;
use std::num::NonZero;
use std::path::{Path, PathBuf};
use std::thread;

pub fn run(call: &arguments::Load) -> Result<()> {
    let Target::Folder(path) = Target::read(&call.target)? else {
        return Err(Error::new(
            ErrorKind::BadRequest,
            format!("`{}`: a cellar in a database is filled from its table; use `adopt`.", call.target),
        ));
    };
    let files = Files::open(&call.files)?;
    let folder = || if call.shared { Folder::at(&path).shared() } else { Folder::at(&path) };
    let opened = folder().is_cellar().then(|| Cellar::open(folder())).transpose()?;
    let schema = schema(call, &path, opened.as_ref())?;
    let size = call.batch.unwrap_or(u64::MAX);
    let mut bookmark = Bookmark { files: call.files.clone(), records: 0, checksum: 0 };
    if call.resume
        && let Some(cellar) = &opened
    {
        (bookmark.records, bookmark.checksum) = bookmark.reached(cellar)?;
    }
    let threads =
        call.threads.or_else(|| thread::available_parallelism().ok()).unwrap_or(NonZero::<usize>::MIN);
    let left_out = BTreeSet::new();
    let mut loader = Loader { schema: &schema, files, size, threads, left_out, bookmark, done: false };
    loader.skip()?;
    let mut cellar = opened;
    let before = cellar.as_ref().map_or(Ok(0), Cellar::records)?;
    let mut published = 0;
    while !loader.done {
        let mut count = 0;
        let fill = |batch: &mut Batch<'_>| {
            count = loader.fill(batch)?;
            Ok(())
        };
        let filled = match cellar {
            Some(cellar) => cellar.publish(fill).map(|_| cellar),
            None => Cellar::create_with(folder(), schema.clone(), fill),
        };
        cellar = Some(filled.map_err(|error| at_end(&error, published))?);
        published += count;
    }
    if let Some(cellar) = &cellar {
        cellar.tidy()?;
        let replaced = (before + published).saturating_sub(cellar.records()?);
        if replaced > 0 {
            let records = count(replaced, "record was", "records were");
            crate::tell(format_args!("{records} replaced by later ones with the same key."));
        }
    }
    if !loader.left_out.is_empty() {
        let names: Vec<_> = loader.left_out.iter().map(String::as_str).collect();
        crate::tell(format_args!(
            "Columns that the schema does not have were left out: {}.",
            names.join(", ")
        ));
    }
    crate::tell(format_args!("{} loaded into {}.", count(published, "record", "records"), path.display()));
    Ok(())
}

/// Says what of the records is there now.
fn at_end(error: &Error, published: u64) -> Error {
    let kept = if published == 0 {
        "Nothing was loaded.".to_owned()
    } else {
        format!(
            "Nothing of this batch was loaded; {} before it are there.",
            count(published, "record", "records")
        )
    };
    Error::new(error.kind(), format!("{error} {kept}"))
}

/// The schema to load with: the cellar's, the one that is given, or one that is proposed.
fn schema(call: &arguments::Load, folder: &Path, opened: Option<&Cellar<Folder>>) -> Result<Schema> {
    let given = call.schema.as_deref().map(read_schema).transpose()?;
    match (opened.map(Cellar::schema), given) {
        (Some(kept), Some(given)) if !kept.changes_to(&given).is_empty() => Err(Error::new(
            ErrorKind::BadSchema,
            format!(
                "{} was made with another schema; leave out --schema, or load into a new folder.",
                call.target
            ),
        )),
        (Some(kept), _) => Ok(kept.clone()),
        (None, Some(given)) => Ok(given),
        (None, None) => {
            let proposal = propose::schema(&call.files[0], call.key.as_deref())?;
            propose_in_writing(&proposal, folder);
            Ok(proposal.schema)
        }
    }
}

/// Says which schema is proposed, and writes it beside the folder, unless there is such a file. That it can't be written is told, and no
/// reason not to load.
fn propose_in_writing(proposal: &Proposal, folder: &Path) {
    let (text, folder) = (proposal.to_toml(), folder.components().as_path());
    let mut file = folder.as_os_str().to_owned();
    file.push(".toml");
    let file = PathBuf::from(file);
    let beside = folder.parent().map_or(Ok(()), fs::create_dir_all);
    let written =
        beside.and_then(|()| File::create_new(&file)).and_then(|mut new| new.write_all(text.as_bytes()));
    let shown = file.display();
    let told = match written {
        Ok(()) => format!(
            "and written to {shown}: to change it, edit that, and load into a new folder with --schema {shown}"
        ),
        Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => {
            format!("and {shown} was left as it is")
        }
        Err(error) => format!("and could not be written to {shown}: {error}"),
    };
    let records = count(proposal.records as u64, "record", "records");
    crate::tell(format_args!(
        "No schema was given. This one is proposed from the first {records}, {told}.\n\n{text}"
    ));
}

/// The records of several files, one after the other.
struct Files<'a> {
    rest: &'a [PathBuf],
    current: Option<Source>,
    /// Of all that was read.
    checksum: Hasher,
}

impl<'a> Files<'a> {
    /// Files that can all be opened.
    fn open(paths: &'a [PathBuf]) -> Result<Self> {
        for path in paths {
            Source::open(path)?;
        }
        Ok(Self { rest: paths, current: None, checksum: Hasher::new() })
    }

    /// The next record, with the file and where in it; none at the end of the last file.
    fn next(&mut self) -> Result<Option<(&Source, u64, Fields)>> {
        loop {
            if let Some(source) = &mut self.current
                && let Some((line, fields)) = source.next(&mut self.checksum)?
            {
                return Ok(self.current.as_ref().map(|source| (source, line, fields)));
            }
            let Some((next, rest)) = self.rest.split_first() else { return Ok(None) };
            self.current = Some(Source::open(next)?);
            self.rest = rest;
        }
    }
}

/// How far files have been read, as it is kept with each batch.
#[derive(Serialize, Deserialize)]
struct Bookmark {
    files: Vec<PathBuf>,
    records: u64,
    /// Of these records, as the files had them.
    checksum: u32,
}

impl Bookmark {
    /// How many records of these files a cellar has, and their checksum.
    fn reached(&self, cellar: &Cellar<Folder>) -> Result<(u64, u32)> {
        let Some(bytes) = cellar.bookmark()? else { return Ok((0, 0)) };
        match serde_json::from_slice::<Self>(&bytes) {
            Ok(kept) if kept.files == self.files => Ok((kept.records, kept.checksum)),
            _ => Err(Error::new(
                ErrorKind::BadRequest,
                "The cellar's last batch did not come from these files; name the same files in the same order, or \
                 leave out --resume.",
            )),
        }
    }
}

/// So many records, or bytes of text, are read before they are put.
const AT_ONCE: usize = 8_192;
const BYTES_AT_ONCE: usize = 8 << 20;

struct Loader<'a> {
    schema: &'a Schema,
    files: Files<'a>,
    bookmark: Bookmark,
    /// The most records of a batch.
    size: u64,
    threads: NonZero<usize>,
    /// Columns that the schema does not have.
    left_out: BTreeSet<String>,
    /// Whether there is no record left.
    done: bool,
}

impl Loader<'_> {
    /// Passes over what has been loaded before.
    fn skip(&mut self) -> Result<()> {
        for _ in 0..self.bookmark.records {
            if self.files.next()?.is_none() {
                break;
            }
        }
        if self.bookmark.records > 0 && self.files.checksum.clone().finalize() != self.bookmark.checksum {
            return Err(Error::new(
                ErrorKind::BadRequest,
                "What was loaded of these files is not what is in them now; load them without --resume, which replaces records by \
                 those with the same keys, or into a new folder.",
            ));
        }
        if self.bookmark.records > 0 {
            let records = count(self.bookmark.records, "record", "records");
            crate::tell(format_args!("Going on after {records} that are there already."));
        }
        Ok(())
    }

    /// Puts a few of the next `most` records into a batch; tells how many.
    fn put_some(&mut self, batch: &mut Batch<'_>, most: u64) -> Result<u64> {
        let (mut records, mut places, mut bytes) = (Vec::new(), Vec::new(), 0);
        while records.len() < AT_ONCE && (records.len() as u64) < most && bytes < BYTES_AT_ONCE {
            let Some((source, line, mut fields)) = self.files.next()? else {
                self.done = true;
                break;
            };
            let place = source.at(line);
            if source.is_text() {
                with_numbers_as_keys(self.schema, &mut fields);
            }
            records.push(Record::from_fields(&fields, self.schema).map_err(|error| error.at(&place))?);
            places.push(place);
            bytes += fields.values().filter_map(Value::as_str).map(str::len).sum::<usize>();
            for name in fields.keys().filter(|name| !is_used(self.schema, name)) {
                if !self.left_out.contains(name) {
                    self.left_out.insert(name.clone());
                }
            }
        }
        match batch.put_all(&records) {
            // The batch is lost. Once more, one after the other, to say where the one is that was refused.
            Err(refused) if refused.kind() == ErrorKind::BadRecord => {
                for (record, place) in records.iter().zip(&places) {
                    batch.put(record).map_err(|error| error.at(place))?;
                }
                Err(refused)
            }
            Err(failed) => Err(failed),
            Ok(()) => Ok(records.len() as u64),
        }
    }

    /// Puts the next records into a batch; tells how many.
    fn fill(&mut self, batch: &mut Batch<'_>) -> Result<u64> {
        batch.set_threads(self.threads)?;
        let mut count = 0;
        while count < self.size && !self.done {
            count += self.put_some(batch, self.size - count)?;
        }
        self.bookmark.records += count;
        self.bookmark.checksum = self.files.checksum.clone().finalize();
        let bookmark = serde_json::to_vec(&self.bookmark).map_err(|error| {
            Error::caused(
                ErrorKind::BadRequest,
                format!("The names of the files can't be kept: {error}."),
                error,
            )
        })?;
        batch.set_bookmark(bookmark)?;
        Ok(count)
    }
}

fn is_used(schema: &Schema, field: &str) -> bool {
    schema.key_columns().iter().any(|column| column == field)
        || schema.columns().any(|(name, column)| column.sources(name).any(|from| from == field))
}

/// CSV does not tell numbers from texts: what is written like a whole number where the key stands is one.
fn with_numbers_as_keys(schema: &Schema, fields: &mut Fields) {
    for name in schema.key_columns() {
        if let Some(Value::String(text)) = fields.get(name)
            && let Ok(number) = text.parse::<i64>()
            && number.to_string() == *text
        {
            fields.insert(name.clone(), number.into());
        }
    }
}
