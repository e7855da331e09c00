//! Hot searches, for profiling.
#![allow(missing_docs, clippy::all, clippy::pedantic, clippy::unwrap_used)]
//! Hot searches, for profiling.
#![allow(missing_docs, clippy::all, clippy::pedantic, clippy::unwrap_used)]
use nut_cellar::search::Total;
use nut_cellar::{Cellar, Find, Query};
use std::time::Instant;
fn main() {
    let args: Vec<String> = std::env::args().collect();
    let cellar = Cellar::open_in(&args[1]).unwrap();
    let queries: Vec<String> =
        std::fs::read_to_string(&args[2]).unwrap().lines().map(str::to_owned).collect();
    let rounds: usize = args[3].parse().unwrap();
    let mut find = Find::new().without_values();
    if args.iter().any(|a| a == "any") {
        find = find.words(nut_cellar::Words::Any);
    }
    if args.iter().any(|a| a == "few") {
        find = find.total(Total::AtLeast(0));
    }
    if args.iter().any(|a| a == "values") {
        find = Find::new();
    }
    let mut best = vec![u128::MAX; queries.len()];
    let mut total = 0;
    for _ in 0..rounds {
        for (q, b) in queries.iter().zip(&mut best) {
            let query = Query::read(q).query;
            let t = Instant::now();
            let found = cellar.search(&query, &find).unwrap();
            *b = (*b).min(t.elapsed().as_nanos());
            total += found.total;
        }
    }
    let mut sorted = best.clone();
    sorted.sort();
    println!(
        "median {:.1} µs mean {:.1} p90 {:.1} ({total})",
        sorted[sorted.len() / 2] as f64 / 1e3,
        sorted.iter().sum::<u128>() as f64 / 1e3 / sorted.len() as f64,
        sorted[sorted.len() * 9 / 10] as f64 / 1e3
    );
    if args.iter().any(|a| a == "each") {
        for (q, b) in queries.iter().zip(&best) {
            println!("{:8.1} {q}", *b as f64 / 1e3);
        }
    }
}
