//! What the calls that search have in common: the query and the settings, which make a request.

use crate::arguments::Settings;
use nut_cellar::judge::{Asked, read_queries};
use nut_cellar::request::Prepared;
use nut_cellar::{Error, ErrorKind, Expansions, Find, Request, Result, Schema};
use std::path::Path;

/// Reads a query and the settings of a call.
pub fn read(query: &str, settings: &Settings, schema: &Schema) -> Result<Prepared> {
    request(query, settings, schema)?.prepare(schema)
}

/// Reads a request from a file.
pub fn from_file(path: &Path, schema: &Schema) -> Result<Prepared> {
    let at = |error: Error| error.at(path.display());
    Request::read(&text_of(path, "request")?).and_then(|request| request.prepare(schema)).map_err(at)
}

fn request(query: &str, settings: &Settings, schema: &Schema) -> Result<Request> {
    let mut find = Find::new()
        .first_letters_right(settings.first_letters)
        .limit(settings.limit)
        .skip(settings.skip)
        .lengths(settings.b.clone().unwrap_or_default());
    if let Some(k1) = settings.k1 {
        find = find.k1(k1);
    }
    if let Some(weight) = settings.proximity {
        find = find.proximity(weight);
    }
    if let Some(columns) = &settings.columns {
        find = find.columns(columns);
    }
    for (column, weight) in &settings.weights {
        find = find.weight(column, *weight);
    }
    if let Some(order) = &settings.sort {
        find = find.order(order.clone());
    }
    for count in &settings.counts {
        find = find.count(count.clone());
    }
    let mut request = find.request(query);
    request.exacting = settings.exacting;
    request.strict = settings.strict;
    request.enough = settings.enough;
    request.words = settings.words;
    request.relax = settings.relax;
    request.near = settings.near;
    request.exact_forms = settings.exact_forms;
    request.beginnings = settings.beginnings.unwrap_or_default();
    request.most_terms = settings.most_terms;
    request.most_postings = settings.most_postings;
    request.filter = settings.filter.as_deref().map(Into::into);
    request.after.clone_from(&settings.after);
    if let Some(path) = &settings.expand {
        let text = text_of(path, "expansions")?;
        Expansions::read(&text, schema)
            .map_err(|error| Error::new(error.kind(), format!("{}, {error}", path.display())))?;
        request.expansions = Some(text);
    }
    Ok(request)
}

/// The queries of a file; at least one.
pub fn queries(path: &Path) -> Result<Vec<Asked>> {
    let queries = read_queries(&text_of(path, "queries")?).map_err(|error| error.at(path.display()))?;
    if queries.is_empty() {
        let message = format!("{} has no query; put one on each line.", path.display());
        return Err(Error::new(ErrorKind::BadRequest, message));
    }
    Ok(queries)
}

pub fn text_of(path: &Path, what: &str) -> Result<String> {
    std::fs::read_to_string(path).map_err(|error| {
        let message = format!("{}: reading the {what} failed: {error}.", path.display());
        Error::caused(ErrorKind::Place, message, error)
    })
}
