//! `load`: records from files into a cellar in a folder.

use crate::adopt::read_schema;
use crate::arguments;
use crate::paint::count;
use crate::propose::{self, Proposal};
use crate::source::{Row, Source, at};
use crate::target::Target;
use crc32fast::Hasher;
use nut_cellar::{Batch, Cellar, Error, ErrorKind, FieldReader, Folder, Record, Result, Schema};
use serde::{Deserialize, Serialize};
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
    let (reader, records) = (FieldReader::new(&schema), Vec::new());
    let mut loader = Loader { files, reader, records, size, threads, bookmark, done: false };
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
    let mut names: Vec<_> = loader.reader.unknown().collect();
    if !names.is_empty() {
        names.sort_unstable();
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
    paths: &'a [PathBuf],
    /// The one that is read, and which one is next.
    current: Option<Source>,
    next: usize,
    /// Of all that was read.
    checksum: Hasher,
}

/// Where a record stands: which file, and the line it begins on.
type Place = (usize, u64);

impl<'a> Files<'a> {
    /// Files that can all be opened.
    fn open(paths: &'a [PathBuf]) -> Result<Self> {
        for path in paths {
            Source::open(path)?;
        }
        Ok(Self { paths, current: None, next: 0, checksum: Hasher::new() })
    }

    /// Gives the next record to `take`, and tells where it stands; none at the end of the last file.
    fn next(&mut self, take: impl FnOnce(Row<'_>) -> Result<()>) -> Result<Option<Place>> {
        loop {
            if let Some(source) = &mut self.current
                && let Some((line, row)) = source.next(&mut self.checksum)?
            {
                let place = (self.next - 1, line);
                return take(row).map(|()| Some(place)).map_err(|error| error.at(self.at(place)));
            }
            let Some(next) = self.paths.get(self.next) else { return Ok(None) };
            self.current = Some(Source::open(next)?);
            self.next += 1;
        }
    }

    /// Where a record stands, in words.
    fn at(&self, (file, line): Place) -> String {
        at(&self.paths[file], line)
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

/// So many records, or bytes of them, are read before they are put.
const AT_ONCE: usize = 8_192;
const BYTES_AT_ONCE: usize = 8 << 20;

struct Loader<'a> {
    files: Files<'a>,
    bookmark: Bookmark,
    /// The most records of a batch.
    size: u64,
    threads: NonZero<usize>,
    reader: FieldReader<'a>,
    records: Vec<Record>,
    /// Whether there is no record left.
    done: bool,
}

impl Loader<'_> {
    /// Passes over what has been loaded before.
    fn skip(&mut self) -> Result<()> {
        for _ in 0..self.bookmark.records {
            if self.files.next(|_| Ok(()))?.is_none() {
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
        let (mut places, mut bytes) = (Vec::new(), 0);
        while places.len() < AT_ONCE && (places.len() as u64) < most && bytes < BYTES_AT_ONCE {
            // Records are used again, with their room.
            if self.records.len() == places.len() {
                self.records.push(Record::new(0));
            }
            let record = &mut self.records[places.len()];
            let Some(place) = self.files.next(|row| {
                bytes += row.len();
                row.read(&mut self.reader, record)
            })?
            else {
                self.done = true;
                break;
            };
            places.push(place);
        }
        let records = &self.records[..places.len()];
        match batch.put_all(records) {
            // The batch is lost. Once more, one after the other, to say where the one is that was refused.
            Err(refused) if refused.kind() == ErrorKind::BadRecord => {
                for (record, place) in records.iter().zip(places) {
                    batch.put(record).map_err(|error| error.at(self.files.at(place)))?;
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
        // While a shelf is written, memory is dear.
        self.records = Vec::new();
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
