//! A cellar that owns its place.

use crate::place::{Patience, Place};
use nut_cellar_core::lenient::{Suggest, Suggested};
use nut_cellar_core::schema::Change;
use nut_cellar_core::search::{Compared, Report, Why};
use nut_cellar_core::{
    Batch, Error, ErrorKind, Find, Found, Highlighter, Key, Manifest, Memory, MemoryUse, Merging, Opened,
    Published, Query, Request, Result, Schema, Search, Snapshot, Tally, Terms, Unit, View, lenient, search,
    text::Pattern,
};
use std::sync::Arc;
use std::time::{Duration, Instant};

/// One index and the place where it lives. Cheap to clone, and clones share the place.
#[derive(Clone, Debug)]
pub struct Cellar<P> {
    place: P,
    schema: Arc<Schema>,
    opened: Arc<Opened>,
    patience: Patience,
}

impl Cellar<Memory> {
    /// A new cellar in memory.
    ///
    /// # Errors
    /// [`ErrorKind::BadSchema`] if the schema can't be used.
    pub fn in_memory(schema: Schema) -> Result<Self> {
        Self::create(Memory::new(), schema)
    }
}

impl<P: Place> Cellar<P> {
    /// A new cellar at a place where there is none yet.
    ///
    /// # Errors
    /// [`ErrorKind::BadSchema`] if the schema can't be used, [`ErrorKind::BadRequest`] if there is a cellar already.
    pub fn create(place: P, schema: Schema) -> Result<Self> {
        Self::create_with(place, schema, |_| Ok(()))
    }

    /// A new cellar with its first batch, in one transaction: if `work` fails, there is no cellar.
    ///
    /// # Errors
    /// As for [`create`](Self::create), or what `work` answers.
    pub fn create_with(
        place: P,
        schema: Schema,
        work: impl FnOnce(&mut Batch<'_>) -> Result<()>,
    ) -> Result<Self> {
        schema.check()?;
        let opened = Arc::new(Opened::new());
        let mut unit = place.unit(Patience::default())?;
        if unit.manifest()?.is_some() {
            return Err(Error::new(
                ErrorKind::BadRequest,
                "There is a cellar here already; open it, or give another place.",
            ));
        }
        let mut batch = Batch::new(&mut unit, &opened, &schema)?;
        work(&mut batch)?;
        batch.publish()?;
        P::commit(unit)?;
        Ok(Self { place, schema: Arc::new(schema), opened, patience: Patience::default() })
    }

    /// The cellar at a place, with the schema that is kept with it.
    ///
    /// # Errors
    /// [`ErrorKind::NotACellar`] if there is none.
    pub fn open(place: P) -> Result<Self> {
        let opened = Arc::new(Opened::new());
        let schema = Arc::clone(Snapshot::open(&place.view()?, &opened)?.schema());
        Ok(Self { place, schema, opened, patience: Patience::default() })
    }

    /// The same cellar, whose writes wait for other writers that wait too, or are refused while there are others.
    #[must_use]
    pub fn with_patience(self, patience: Patience) -> Self {
        Self { patience, ..self }
    }

    /// The same handle with a budget of its own, in bytes, for what searches ask for again and again; see [`Opened::with_memory`]. What was
    /// kept so far is let go.
    #[must_use]
    pub fn with_memory(self, bytes: usize) -> Self {
        Self { opened: Arc::new(Opened::with_memory(bytes)), ..self }
    }

    /// How far the source of the cellar has been read: the last bookmark that a batch kept.
    ///
    /// # Errors
    /// If the place can't be read.
    pub fn bookmark(&self) -> Result<Option<Vec<u8>>> {
        Ok(self.place.view()?.manifest()?.and_then(|manifest| manifest.bookmark.clone()))
    }

    /// How many records there are.
    ///
    /// # Errors
    /// If the place can't be read.
    pub fn records(&self) -> Result<u64> {
        let manifest = self.place.view()?.manifest()?;
        Ok(manifest.map_or(0, |manifest| manifest.records()))
    }

    /// The columns.
    pub fn schema(&self) -> &Schema {
        &self.schema
    }

    /// Gives the cellar other weights and another [ranking](Schema::ranking): a schema that is the same but for these. No record is read;
    /// every search from now on is ranked so, by handles that were opened before as well. Tells what is otherwise.
    ///
    /// ```
    /// use nut_cellar::{Cellar, Column, Schema};
    ///
    /// # fn main() -> nut_cellar::Result<()> {
    /// let schema = |weight| Schema::new("id").with("title", Column::text("en").weighing(weight));
    /// let cellar = Cellar::in_memory(schema(1.0))?;
    /// assert_eq!(cellar.rank_by(&schema(4.0))?[0].to_string(), "column `title` weighs 4 instead of 1");
    /// # Ok(()) }
    /// ```
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`], and nothing is changed, if records would have to be read again for it; if the place can't be read or
    /// written, or somebody else is writing.
    pub fn rank_by(&self, schema: &Schema) -> Result<Vec<Change>> {
        schema.check()?;
        let mut unit = self.place.unit(self.patience)?;
        let manifest = unit.manifest()?.ok_or_else(|| {
            Error::new(ErrorKind::NotACellar, "There is no cellar here any more; make it anew.")
        })?;
        let changes = manifest.schema.changes_to(schema);
        if let Some(change) = changes.iter().find(|change| change.needs_rebuild()) {
            let message = format!(
                "Records would have to be read again for this: {change}. Load them into a new cellar."
            );
            return Err(Error::new(ErrorKind::BadRequest, message));
        }
        if !changes.is_empty() {
            let generation = manifest.generation + 1;
            let next = Manifest {
                schema: Arc::new(schema.clone().in_editions_of(&manifest.schema)),
                generation,
                ..Manifest::clone(&manifest)
            };
            unit.swap(Some(manifest.generation), &next)?;
            P::commit(unit)?;
        }
        Ok(changes)
    }

    /// Writes that become visible together: those that `work` does on the batch, if it succeeds.
    ///
    /// # Errors
    /// What `work` or the place answers; nothing is changed then.
    pub fn publish(&self, work: impl FnOnce(&mut Batch<'_>) -> Result<()>) -> Result<Published> {
        let mut unit = self.place.unit(self.patience)?;
        let mut batch = Batch::new(&mut unit, &self.opened, &self.schema)?;
        work(&mut batch)?;
        let published = batch.publish()?;
        P::commit(unit)?;
        Ok(published)
    }

    /// Merges the shelves that are due: those that publishing left because they are large, and those of which many records
    /// are removed. Changes no result, and makes searches faster; meanwhile searches go on and other writers wait or are
    /// refused. Tells whether there was anything to do. It may take a while, so it is work for a thread, or an hour, of the
    /// application's choice; interrupted, it leaves nothing behind.
    ///
    /// ```
    /// use nut_cellar::{Cellar, Column, Find, Record, Schema};
    ///
    /// # fn main() -> nut_cellar::Result<()> {
    /// let cellar = Cellar::in_memory(Schema::new("id").with("title", Column::text("en")))?;
    /// cellar.publish(|batch| batch.put(&Record::new(1).with("title", "Two black umbrellas")))?;
    /// let same = cellar.clone();
    /// let tidying = std::thread::spawn(move || same.tidy());
    /// assert_eq!(cellar.find("umbrella", &Find::new())?.total, 1);
    /// tidying.join().expect("tidying does not panic")?;
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// # Errors
    /// If the place can't be read or written or is damaged; nothing is changed then.
    pub fn tidy(&self) -> Result<bool> {
        self.merge(Merging::Due)
    }

    /// Merges all shelves into one; as [`tidy`](Self::tidy) otherwise.
    ///
    /// # Errors
    /// As for [`tidy`](Self::tidy).
    pub fn compact(&self) -> Result<bool> {
        self.merge(Merging::Whole)
    }

    fn merge(&self, merging: Merging) -> Result<bool> {
        let merge = |batch: &mut Batch<'_>| {
            batch.set_merging(merging);
            Ok(())
        };
        Ok(self.publish(merge)?.changed)
    }

    /// Reads what a person typed, and searches for it.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`] if `find` asks for what is not there; or if the place can't be read or is damaged.
    pub fn find(&self, text: &str, find: &Find) -> Result<Found> {
        let reading = Query::read(text);
        Ok(self.search(&reading.query, find)?.noting(reading.notes))
    }

    /// Answers a request: all that a search may be asked, as one document.
    ///
    /// # Errors
    /// As for [`find`](Self::find); and if a text in the request can't be read.
    pub fn answer(&self, request: &Request) -> Result<Found> {
        let asked = request.prepare(self.schema())?;
        Ok(self.search(&asked.query, &asked.find)?.noting(asked.notes))
    }

    /// Searches for a query that was built or read before.
    ///
    /// # Errors
    /// As for [`find`](Self::find).
    pub fn search(&self, query: &Query, find: &Find) -> Result<Found> {
        let view = self.place.view()?;
        let snapshot = Snapshot::open(&view, &self.opened)?;
        lenient::search(&view, &snapshot, query, find)
    }

    /// Searches, and tells how the search went.
    ///
    /// # Errors
    /// As for [`find`](Self::find).
    pub fn search_reporting(&self, query: &Query, find: &Find) -> Result<(Found, Report)> {
        let view = self.place.view()?;
        let snapshot = Snapshot::open(&view, &self.opened)?;
        reported(&view, &snapshot, query, find)
    }

    /// What a program may offer somebody who types: corrections of what was typed, and completions.
    ///
    /// ```
    /// use nut_cellar::lenient::Suggest;
    /// use nut_cellar::{Cellar, Column, Find, Record, Schema};
    ///
    /// # fn main() -> nut_cellar::Result<()> {
    /// let cellar = Cellar::in_memory(Schema::new("id").with("title", Column::text("en")))?;
    /// cellar.publish(|batch| batch.put(&Record::new(1).with("title", "Walnut box")))?;
    /// let offered = cellar.suggest("wlanut box", &Find::new(), &Suggest::new())?;
    /// assert_eq!((offered.corrections[0].text.as_str(), offered.corrections[0].records), ("walnut box", 1));
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// # Errors
    /// As for [`find`](Self::find).
    pub fn suggest(&self, text: &str, find: &Find, suggest: &Suggest) -> Result<Suggested> {
        let view = self.place.view()?;
        let snapshot = Snapshot::open(&view, &self.opened)?;
        lenient::suggest(&view, &snapshot, text, find, suggest)
    }

    /// Says why a record ranks where it does, or why it was not found.
    ///
    /// ```
    /// use nut_cellar::search::{Reason, Why};
    /// use nut_cellar::{Cellar, Column, Find, Query, Record, Schema};
    ///
    /// # fn main() -> nut_cellar::Result<()> {
    /// let cellar = Cellar::in_memory(Schema::new("id").with("title", Column::text("en")))?;
    /// cellar.publish(|batch| batch.put(&Record::new(1).with("title", "Walnut box")))?;
    /// let query = Query::read("walnut -box").query;
    /// let why = cellar.why(&query, &Find::new(), &1.into())?;
    /// assert_eq!(why, Why::NotFound(vec![Reason::Excluded { part: "box".into() }]));
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// # Errors
    /// As for [`find`](Self::find).
    pub fn why(&self, query: &Query, find: &Find, key: &Key) -> Result<Why> {
        let view = self.place.view()?;
        let snapshot = Snapshot::open(&view, &self.opened)?;
        let (query, find) = lenient::decided(&view, &snapshot, query, find)?;
        search::why(&view, &snapshot, &query, &find, key)
    }

    /// Searches twice for one query, such as with two sets of weights, and puts the answers side by side.
    ///
    /// # Errors
    /// As for [`find`](Self::find).
    pub fn compare(&self, query: &Query, first: &Find, second: &Find) -> Result<Compared> {
        let view = self.place.view()?;
        let snapshot = Snapshot::open(&view, &self.opened)?;
        search::compare(&view, &snapshot, query, first, second)
    }

    /// Marks in texts what a search finds.
    ///
    /// # Errors
    /// [`ErrorKind::BadRequest`] if `find` names columns that can't be searched.
    pub fn highlighter(&self, text: &str, find: &Find) -> Result<Highlighter> {
        Highlighter::new(Arc::clone(&self.schema), &Query::read(text).query, find)
    }

    /// Where it lives.
    pub fn place(&self) -> &P {
        &self.place
    }

    /// The first `most` terms, in order, that fit a pattern; see [`Snapshot::terms`].
    ///
    /// ```
    /// use nut_cellar::text::Pattern;
    /// use nut_cellar::{Cellar, Column, Memory, Record, Schema};
    ///
    /// let schema = Schema::new("id").with("title", Column::text("en"));
    /// let cellar = Cellar::create(Memory::new(), schema).unwrap();
    /// cellar.publish(|batch| batch.put(&Record::new(1).with("title", "Umbrella"))).unwrap();
    /// let found = cellar.terms(&Pattern::new("*ella").unwrap(), 10).unwrap();
    /// assert_eq!(found.terms[0].term, "umbrella");
    /// assert_eq!(found.terms[0].records, 1);
    /// ```
    ///
    /// # Errors
    /// If the place can't be read or is damaged.
    pub fn terms(&self, pattern: &Pattern, most: usize) -> Result<Terms> {
        let view = self.place.view()?;
        Snapshot::open(&view, &self.opened)?.terms(&view, pattern, most)
    }

    /// Checks every checksum and every invariant of the layout; reads all bytes.
    ///
    /// # Errors
    /// [`ErrorKind::Damaged`], naming the section, at the first thing that is not right.
    pub fn check(&self) -> Result<()> {
        let view = self.place.view()?;
        Snapshot::open(&view, &Opened::new())?.check(&view)
    }

    /// What there is to know about the cellar. Reads all terms.
    ///
    /// # Errors
    /// If the place can't be read or is damaged.
    pub fn info(&self) -> Result<Info> {
        let view = self.place.view()?;
        Info::of(&view, &self.opened)
    }
}

/// Runs a search with a clock. Of a lenient one it is the last of its searches that is reported on.
pub(crate) fn reported(
    view: &dyn View,
    snapshot: &Snapshot,
    query: &Query,
    find: &Find,
) -> Result<(Found, Report)> {
    let begun = Instant::now();
    let clock = move || u64::try_from(begun.elapsed().as_nanos()).unwrap_or(u64::MAX);
    let (decided, strict) = lenient::decided(view, snapshot, query, find)?;
    let mut search = Search::new(snapshot.clone(), &decided, &strict)?.timed(clock);
    let mut found = search::run(view, &mut search)?;
    if decided != *query || strict != *find {
        found = lenient::search(view, snapshot, query, find)?;
    }
    Ok((found, search.report()))
}

/// What there is to know about a cellar.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Info {
    /// Live records.
    pub records: u64,
    /// Terms, postings and positions.
    pub tally: Tally,
    /// Shelves.
    pub shelves: usize,
    /// Which state it is: how often something was published.
    pub generation: u64,
    /// Bytes by section of the layout.
    pub bytes: Vec<(String, u64)>,
    /// Bytes that the handle may take in memory for what searches ask for again and again, and that it takes.
    pub memory: MemoryUse,
    /// Changes of rows that no shelf holds yet; searches see them all the same. None where there are no rows.
    pub pending: Option<u64>,
    /// How old the oldest of these changes is; in SQLite, at most. None if there is none.
    pub oldest: Option<Duration>,
    /// Bytes of the table with the rows, without its indexes; none where there is none, or the database does not tell.
    pub table: Option<u64>,
}

impl Info {
    /// What there is to know about the cellar that `view` shows.
    ///
    /// # Errors
    /// If it can't be read or is damaged.
    pub(crate) fn of(view: &dyn View, opened: &Opened) -> Result<Self> {
        let snapshot = Snapshot::open(view, opened)?;
        Ok(Self {
            records: snapshot.records(),
            tally: snapshot.tally(view)?,
            shelves: snapshot.shelves(),
            generation: snapshot.generation(),
            bytes: snapshot.sizes(),
            memory: opened.memory(),
            pending: None,
            oldest: None,
            table: None,
        })
    }
}
