//! What the calls that search have in common: the query and the settings.

use crate::arguments::Settings;
use nut_cellar::{Error, ErrorKind, Expansions, Filter, Find, Query, Result, Schema};
use std::sync::Arc;

/// A query and how to search for it.
pub struct Asked {
    pub query: Query,
    pub find: Find,
    /// What was taken otherwise than it may have been meant.
    pub notes: Vec<String>,
}

/// Reads a query and the settings of a call.
pub fn read(query: &str, settings: &Settings, schema: &Schema) -> Result<Asked> {
    let find = find(settings, schema)?;
    if settings.exacting {
        return Ok(Asked { query: Query::read_exactly(query, schema)?, find, notes: Vec::new() });
    }
    let reading = Query::read(query);
    Ok(Asked { query: reading.query, find, notes: reading.notes })
}

/// How to search.
pub fn find(settings: &Settings, schema: &Schema) -> Result<Find> {
    let mut find = Find::new()
        .words(settings.words)
        .relaxed_below(settings.relax)
        .spellings(settings.near)
        .limit(settings.limit)
        .skip(settings.skip)
        .k1(settings.k1)
        .b(settings.b)
        .proximity(settings.proximity);
    if settings.exact_forms {
        find = find.exact_forms();
    }
    if settings.beginnings {
        find = find.with_beginnings();
    }
    if let Some(terms) = settings.most_terms {
        find = find.most_terms(terms);
    }
    if let Some(postings) = settings.most_postings {
        find = find.most_postings(postings);
    }
    if let Some(columns) = &settings.columns {
        find = find.columns(columns);
    }
    if let Some(filter) = &settings.filter {
        find = find.only(Filter::read(filter, schema)?);
    }
    if let Some(order) = &settings.sort {
        find = find.order(order.clone());
    }
    if let Some(place) = &settings.after {
        find = find.after(place.clone());
    }
    if let Some(path) = &settings.expand {
        let text = std::fs::read_to_string(path).map_err(|error| {
            let message = format!("{}: reading the expansions failed: {error}.", path.display());
            Error::caused(ErrorKind::Place, message, error)
        })?;
        let expansions = Expansions::read(&text, schema)
            .map_err(|error| Error::new(error.kind(), format!("{}, {error}", path.display())))?;
        find = find.expanding(&Arc::new(expansions));
    }
    Ok(settings.weights.iter().fold(find, |find, (column, weight)| find.weight(column, *weight)))
}
