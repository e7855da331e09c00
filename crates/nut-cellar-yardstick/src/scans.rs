//! What a phrase costs without an index: a scan of the rows of a table, and of all texts in memory.

use memchr::memmem;
use rusqlite::Connection;
use serde::Serialize;
use std::error::Error;
use std::time::Instant;

/// What looking for phrases in all texts takes, in microseconds: the median over the phrases.
#[derive(Clone, Copy, Debug, Serialize)]
pub struct Scans {
    /// `LIKE '%…%'` over the rows of a table in memory.
    pub table_us: f64,
    /// A search for the bytes in all texts, case folded, one after the other.
    pub memory_us: f64,
}

/// Looks for each phrase.
///
/// # Errors
/// If the database refuses.
pub fn scans(texts: &[(String, String)], phrases: &[String]) -> Result<Scans, Box<dyn Error>> {
    let connection = Connection::open_in_memory()?;
    connection.execute_batch("CREATE TABLE items(text TEXT); BEGIN")?;
    let mut all = String::new();
    {
        let mut insert = connection.prepare("INSERT INTO items VALUES (?1)")?;
        for (title, body) in texts {
            let text = format!("{title} {body}");
            insert.execute([&text])?;
            all.push_str(&text.to_lowercase());
            all.push('\n');
        }
    }
    connection.execute_batch("COMMIT")?;
    let (mut table, mut memory) = (Vec::new(), Vec::new());
    let mut like = connection.prepare("SELECT count(*) FROM items WHERE text LIKE '%' || ?1 || '%'")?;
    for phrase in phrases {
        let started = Instant::now();
        let rows: i64 = like.query_row([phrase], |row| row.get(0))?;
        table.push(started.elapsed().as_secs_f64() * 1e6);
        let started = Instant::now();
        let places = memmem::find_iter(all.as_bytes(), phrase.as_bytes()).count();
        memory.push(started.elapsed().as_secs_f64() * 1e6);
        if (rows == 0) != (places == 0) {
            return Err(format!("`{phrase}` is in {rows} rows and at {places} places").into());
        }
    }
    let median = |times: &mut Vec<f64>| {
        times.sort_by(f64::total_cmp);
        times.get(times.len() / 2).copied().unwrap_or(0.0)
    };
    Ok(Scans { table_us: median(&mut table), memory_us: median(&mut memory) })
}
