//! `time`: how long the queries of a file take.

use crate::settings;
use crate::target::Target;
use crate::{arguments, paint, say};
use nut_cellar::Result;
use nut_cellar::judge::Asked;
use nut_cellar::request::Prepared;
use std::time::Instant;

pub fn run(call: &arguments::Time) -> Result<()> {
    let path = call.queries.display();
    let queries = settings::queries(&call.queries)?;
    let open = Target::read(&call.target)?.open()?;
    let (mut times, mut firsts) = (Vec::new(), Vec::new());
    for Asked { id, text } in &queries {
        let read = settings::read(text, &call.settings, open.schema());
        let Prepared { query, find, .. } =
            read.map_err(|error| error.at(format_args!("{path}, query {id}")))?;
        let run = || {
            let started = Instant::now();
            open.search(&query, &find).map(|_| started.elapsed().as_secs_f64() * 1e6)
        };
        let first = run()?;
        let again = (1..call.repeat).map(|_| run()).collect::<Result<Vec<_>>>()?;
        times.push(again.into_iter().fold(first, f64::min));
        firsts.push(first);
    }
    let mean = times.iter().sum::<f64>() / times.len() as f64;
    times.sort_by(f64::total_cmp);
    firsts.sort_by(f64::total_cmp);
    let first = firsts[firsts.len() / 2];
    let at = |percent: usize| times[(times.len() * percent / 100).min(times.len() - 1)];
    let (median, p99) = (at(50), at(99));
    if call.json {
        let answer = serde_json::json!({
            "queries": times.len(), "median_us": median, "mean_us": mean, "p99_us": p99,
            "first_median_us": first,
        });
        return crate::say_json(&answer);
    }
    let queries = paint::count(times.len() as u64, "query", "queries");
    say(&format!(
        "{queries}, the least of {} each: half take at most {}, 99 of 100 at most {}, in the mean {}. \
         When they were asked for the first time, half took at most {}.\n",
        paint::count(call.repeat.into(), "run", "runs"),
        paint::time(median),
        paint::time(p99),
        paint::time(mean),
        paint::time(first)
    ))
}
