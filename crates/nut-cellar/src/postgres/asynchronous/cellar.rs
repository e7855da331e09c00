//! The handle of a cellar for asynchronous programs: each call is the one of [`PostgresCellar`], driven by a future.

use super::super::cellar::PostgresCellar;
use super::super::session::Parameter;
use super::bridge::{Bridge, drive};
use super::session::{AsyncConnection, AsyncSession};
use crate::cellar::Info;
use crate::rows::{self, Adopted, Pace, Repaired, Stop, Synced};
use nut_cellar_core::lenient::{Suggest, Suggested};
use nut_cellar_core::search::{Compared, Report, Why};
use nut_cellar_core::{
    Difference, Find, Found, Highlighter, Key, Query, Request, Result, Schema, Terms, text::Pattern,
};
use std::sync::Arc;
use tokio_postgres::Row;

/// A cellar inside a PostgreSQL database, for asynchronous programs. Cheap to clone; clones, and the [`PostgresCellar`] that one was
/// made of, share what they have read.
///
/// A call whose future is dropped before it is done leaves nothing half done, and the connection can be used at once. An
/// [`adopt`](Self::adopt) that is dropped in its first fill leaves a cellar that is not filled, which
/// [`sync`](Self::sync) fills.
#[derive(Clone, Debug)]
pub struct AsyncCellar(Arc<PostgresCellar>);

impl From<Arc<PostgresCellar>> for AsyncCellar {
    fn from(cellar: Arc<PostgresCellar>) -> Self {
        Self(cellar)
    }
}

impl AsyncCellar {
    /// As [`PostgresCellar::open`].
    ///
    /// # Errors
    /// As there.
    pub async fn open(client: &impl AsyncSession, name: &str) -> Result<Self> {
        let name = name.to_owned();
        let opened = drive(client.client(), move |mut bridge| PostgresCellar::open(&mut bridge, &name)).await;
        opened.map(|cellar| Self(Arc::new(cellar)))
    }

    /// As [`PostgresCellar::with_memory`].
    #[must_use]
    pub fn with_memory(&self, bytes: usize) -> Self {
        Self(Arc::new(self.0.with_memory(bytes)))
    }

    /// As [`PostgresCellar::adopt`].
    ///
    /// # Errors
    /// As there.
    pub async fn adopt(client: &mut impl AsyncConnection, name: &str, schema: &Schema) -> Result<Self> {
        Self::adopt_with(client, name, schema, |_| ()).await.map(|(cellar, _)| cellar)
    }

    /// As [`PostgresCellar::adopt_with`]; `progress` is called on another thread.
    ///
    /// # Errors
    /// As there.
    pub async fn adopt_with(
        client: &mut impl AsyncConnection,
        name: &str,
        schema: &Schema,
        progress: impl FnMut(u64) + Send + 'static,
    ) -> Result<(Self, Adopted)> {
        let (name, schema) = (name.to_owned(), schema.clone());
        let work =
            move |mut bridge: Bridge| PostgresCellar::adopt_with(&mut bridge, &name, &schema, progress);
        let (cellar, adopted) = drive(client.client(), work).await?;
        Ok((Self(Arc::new(cellar)), adopted))
    }

    /// As [`PostgresCellar::release`].
    ///
    /// # Errors
    /// As there.
    pub async fn release(client: &impl AsyncSession, name: &str) -> Result<()> {
        let name = name.to_owned();
        drive(client.client(), move |mut bridge| PostgresCellar::release(&mut bridge, &name)).await
    }

    /// What it is called.
    pub fn name(&self) -> &str {
        self.0.name()
    }

    /// The columns.
    pub fn schema(&self) -> &Schema {
        self.0.schema()
    }

    /// As [`PostgresCellar::find`]. A search whose future is dropped ends.
    ///
    /// # Errors
    /// As there.
    pub async fn find(&self, client: &impl AsyncSession, text: &str, find: &Find) -> Result<Found> {
        let (text, find) = (text.to_owned(), find.clone());
        self.ask(client, move |cellar, mut bridge| {
            let find = bridge.while_waited_for(find);
            cellar.find(&mut bridge, &text, &find)
        })
        .await
    }

    /// As [`PostgresCellar::answer`]. A search whose future is dropped ends.
    ///
    /// # Errors
    /// As there.
    pub async fn answer(&self, client: &impl AsyncSession, request: &Request) -> Result<Found> {
        let asked = request.prepare(self.schema())?;
        self.ask(client, move |cellar, mut bridge| {
            let find = bridge.while_waited_for(asked.find);
            Ok(cellar.search(&mut bridge, &asked.query, &find)?.noting(asked.notes))
        })
        .await
    }

    /// As [`PostgresCellar::search`]. A search whose future is dropped ends.
    ///
    /// # Errors
    /// As there.
    pub async fn search(&self, client: &impl AsyncSession, query: &Query, find: &Find) -> Result<Found> {
        let (query, find) = (query.clone(), find.clone());
        self.ask(client, move |cellar, mut bridge| {
            let find = bridge.while_waited_for(find);
            cellar.search(&mut bridge, &query, &find)
        })
        .await
    }

    /// As [`PostgresCellar::search_reporting`].
    ///
    /// # Errors
    /// As there.
    pub async fn search_reporting(
        &self,
        client: &impl AsyncSession,
        query: &Query,
        find: &Find,
    ) -> Result<(Found, Report)> {
        let (query, find) = (query.clone(), find.clone());
        self.ask(client, move |cellar, mut bridge| {
            let find = bridge.while_waited_for(find);
            cellar.search_reporting(&mut bridge, &query, &find)
        })
        .await
    }

    /// As [`PostgresCellar::join`].
    ///
    /// # Errors
    /// As there.
    pub async fn join(
        &self,
        client: &impl AsyncSession,
        found: &Found,
        sql: &str,
        parameters: &[Parameter<'_>],
    ) -> Result<Vec<Row>> {
        let hits = self.0.hits(found);
        let (sql, parameters) = (hits.with(sql), hits.parameters(parameters));
        let joined = client.client().query_typed(&sql, &parameters).await;
        joined.map_err(super::super::failure::failed(super::super::cellar::JOINING))
    }

    /// As [`PostgresCellar::suggest`].
    ///
    /// # Errors
    /// As there.
    pub async fn suggest(
        &self,
        client: &impl AsyncSession,
        text: &str,
        find: &Find,
        suggest: &Suggest,
    ) -> Result<Suggested> {
        let (text, find, suggest) = (text.to_owned(), find.clone(), suggest.clone());
        self.ask(client, move |cellar, mut bridge| cellar.suggest(&mut bridge, &text, &find, &suggest)).await
    }

    /// As [`PostgresCellar::why`].
    ///
    /// # Errors
    /// As there.
    pub async fn why(
        &self,
        client: &impl AsyncSession,
        query: &Query,
        find: &Find,
        key: &Key,
    ) -> Result<Why> {
        let (query, find, key) = (query.clone(), find.clone(), key.clone());
        self.ask(client, move |cellar, mut bridge| cellar.why(&mut bridge, &query, &find, &key)).await
    }

    /// As [`PostgresCellar::compare`].
    ///
    /// # Errors
    /// As there.
    pub async fn compare(
        &self,
        client: &impl AsyncSession,
        query: &Query,
        first: &Find,
        second: &Find,
    ) -> Result<Compared> {
        let (query, first, second) = (query.clone(), first.clone(), second.clone());
        self.ask(client, move |cellar, mut bridge| cellar.compare(&mut bridge, &query, &first, &second)).await
    }

    /// As [`PostgresCellar::terms`].
    ///
    /// # Errors
    /// As there.
    pub async fn terms(&self, client: &impl AsyncSession, pattern: &Pattern, most: usize) -> Result<Terms> {
        let pattern = pattern.clone();
        self.ask(client, move |cellar, mut bridge| cellar.terms(&mut bridge, &pattern, most)).await
    }

    /// As [`PostgresCellar::highlighter`].
    ///
    /// # Errors
    /// As there.
    pub fn highlighter(&self, text: &str, find: &Find) -> Result<Highlighter> {
        self.0.highlighter(text, find)
    }

    /// As [`PostgresCellar::keep_in`]; before the first search.
    ///
    /// # Errors
    /// As there.
    pub fn keep_in(&self, folder: impl AsRef<std::path::Path>) -> Result<()> {
        self.0.keep_in(folder)
    }

    /// As [`PostgresCellar::fetched`].
    pub fn fetched(&self) -> u64 {
        self.0.fetched()
    }

    /// As [`PostgresCellar::info`].
    ///
    /// # Errors
    /// As there.
    pub async fn info(&self, client: &impl AsyncSession) -> Result<Info> {
        self.ask(client, |cellar, mut bridge| cellar.info(&mut bridge)).await
    }

    /// As [`PostgresCellar::allow`].
    ///
    /// # Errors
    /// As there.
    pub async fn allow(&self, client: &impl AsyncSession, role: &str) -> Result<()> {
        let role = role.to_owned();
        self.ask(client, move |cellar, mut bridge| cellar.allow(&mut bridge, &role)).await
    }

    /// As [`PostgresCellar::touch`].
    ///
    /// # Errors
    /// As there.
    pub async fn touch<'k>(
        &self,
        client: &impl AsyncSession,
        keys: impl IntoIterator<Item = &'k Key>,
    ) -> Result<()> {
        let keys: Vec<Key> = keys.into_iter().cloned().collect();
        self.ask(client, move |cellar, mut bridge| cellar.touch(&mut bridge, &keys)).await
    }

    /// As [`PostgresCellar::sync`].
    ///
    /// # Errors
    /// As there.
    pub async fn sync(&self, client: &mut impl AsyncConnection) -> Result<Synced> {
        self.work(client, |cellar, mut bridge| cellar.sync(&mut bridge)).await
    }

    /// As [`PostgresCellar::tidy`].
    ///
    /// # Errors
    /// As there.
    pub async fn tidy(&self, client: &mut impl AsyncConnection) -> Result<Synced> {
        self.work(client, |cellar, mut bridge| cellar.tidy(&mut bridge)).await
    }

    /// As [`PostgresCellar::compact`].
    ///
    /// # Errors
    /// As there.
    pub async fn compact(&self, client: &mut impl AsyncConnection) -> Result<Synced> {
        self.work(client, |cellar, mut bridge| cellar.compact(&mut bridge)).await
    }

    /// As [`PostgresCellar::rebuild`].
    ///
    /// # Errors
    /// As there.
    pub async fn rebuild(&self, client: &mut impl AsyncConnection) -> Result<Synced> {
        self.work(client, |cellar, mut bridge| cellar.rebuild(&mut bridge)).await
    }

    /// As [`PostgresCellar::check`].
    ///
    /// # Errors
    /// As there.
    pub async fn check(&self, client: &impl AsyncSession) -> Result<()> {
        self.ask(client, |cellar, mut bridge| cellar.check(&mut bridge)).await
    }

    /// As [`PostgresCellar::differences`].
    ///
    /// # Errors
    /// As there.
    pub async fn differences(&self, client: &mut impl AsyncConnection) -> Result<Vec<(Key, Difference)>> {
        self.work(client, |cellar, mut bridge| cellar.differences(&mut bridge)).await
    }

    /// As [`PostgresCellar::repair`].
    ///
    /// # Errors
    /// As there.
    pub async fn repair(&self, client: &mut impl AsyncConnection) -> Result<Repaired> {
        self.work(client, |cellar, mut bridge| cellar.repair(&mut bridge)).await
    }

    /// Looks after the cellar as a [`Keeper`](rows::Keeper) does, for as long as the future is polled. `told` is called on another
    /// thread.
    ///
    /// # Errors
    /// [`ErrorKind::Stopped`](crate::ErrorKind::Stopped) if the runtime ends. What fails besides is told to `told`, and tried again.
    pub async fn keep(
        &self,
        client: &mut impl AsyncConnection,
        pace: Pace,
        told: impl FnMut(Result<&Synced>) + Send + 'static,
    ) -> Result<()> {
        let stop = Arc::new(Stop::default());
        let _ends_with_the_future = Stopping(Arc::clone(&stop));
        self.work(client, move |cellar, bridge| {
            rows::keep(&mut (bridge, Arc::clone(cellar)), &pace, &stop, told);
            Ok(())
        })
        .await
    }

    /// A call that has no transaction of its own.
    async fn ask<T: Send + 'static>(
        &self,
        client: &impl AsyncSession,
        work: impl FnOnce(&Arc<PostgresCellar>, Bridge) -> Result<T> + Send + 'static,
    ) -> Result<T> {
        let cellar = Arc::clone(&self.0);
        drive(client.client(), move |bridge| work(&cellar, bridge)).await
    }

    /// A call that has.
    async fn work<T: Send + 'static>(
        &self,
        client: &mut impl AsyncConnection,
        work: impl FnOnce(&Arc<PostgresCellar>, Bridge) -> Result<T> + Send + 'static,
    ) -> Result<T> {
        let cellar = Arc::clone(&self.0);
        drive(client.client(), move |bridge| work(&cellar, bridge)).await
    }
}

/// Tells a keeper to end when it is dropped.
struct Stopping(Arc<Stop>);

impl Drop for Stopping {
    fn drop(&mut self) {
        self.0.stop();
    }
}
