//! What is counted of the records that a search finds.

use super::find::Find;
use super::steps::Search;
use crate::counts::{Counted, Matches, Tallies, bind};
use crate::error::Result;
use crate::shelf::complete;
use crate::store::View;

impl Search {
    /// What its find counts, of all records that match.
    pub(super) fn counted(&mut self, view: &dyn View) -> Result<Vec<Counted>> {
        let found_by = self.found_by.take().unwrap_or_else(|| self.prepared.find.clone());
        let counts = bind(self.snapshot.schema(), found_by.counts())?;
        let mut all: Vec<Option<Counted>> = counts.iter().map(|_| None).collect();
        // Those that leave out the same part of the filter are counted together.
        while let Some(first) = all.iter().position(Option::is_none) {
            let left_out = counts[first].left_out();
            let these: Vec<_> =
                (0..counts.len()).filter(|place| counts[*place].left_out() == left_out).collect();
            let find = left_out
                .map_or_else(|| found_by.clone(), |column| found_by.clone().without_filter_on(column));
            let chosen = these.iter().map(|place| &counts[*place]).collect();
            let counted = self.tally(view, &find, Tallies::new(chosen))?;
            for (place, counted) in these.into_iter().zip(counted) {
                all[place] = Some(counted);
            }
        }
        // Whoever asks how the search went is told of what was found.
        self.go_by(&found_by)?;
        Ok(all.into_iter().flatten().collect())
    }

    /// Makes it a search by this.
    fn go_by(&mut self, find: &Find) -> Result<()> {
        if self.prepared.find == *find {
            return Ok(());
        }
        self.prepared.again(&self.snapshot, &self.query, find)
    }

    /// Counts what a find finds.
    fn tally(&mut self, view: &dyn View, find: &Find, mut tallies: Tallies<'_>) -> Result<Vec<Counted>> {
        self.go_by(find)?;
        let matching = (0..self.snapshot.shelves()).map(|shelf| self.matching(view, shelf));
        let matching = matching.collect::<Result<Vec<_>>>()?;
        let go_on = || find.go_on();
        let of_shelf = |shelf: usize| Matches {
            shelf: &self.snapshot.standing()[shelf].shelf,
            records: &matching[shelf],
            go_on: &go_on,
        };
        let held = &mut self.held;
        for shelf in 0..matching.len() {
            let here = complete(view, held, |held| tallies.of_shelf(held, of_shelf(shelf)))?;
            tallies.add(here);
        }
        tallies.counted(|count| {
            (0..matching.len()).map(|shelf| complete(view, held, |held| count(held, of_shelf(shelf)))).sum()
        })
    }
}
