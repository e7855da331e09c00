//! Catching up by itself: a thread, or a loop, that turns changes into shelves when they are enough or old enough.
//!
//! What always holds: nothing depends on it. Without a keeper every search is as right, only slower; several keepers do each
//! other's work and no harm.

use super::Synced;
use nut_cellar_core::{ErrorKind, Result};
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

/// What a keeper looks after: a cellar with a connection of its own.
pub trait Kept: Send {
    /// How many changes wait, counted no further than to `most`.
    ///
    /// # Errors
    /// If the database can't be read.
    fn pending(&mut self, most: u64) -> Result<u64>;

    /// Turns them into a shelf.
    ///
    /// # Errors
    /// If the database can't be written.
    fn sync(&mut self) -> Result<Synced>;

    /// Merges the shelves that are due.
    ///
    /// # Errors
    /// If the database can't be written.
    fn tidy(&mut self) -> Result<Synced>;

    /// Opens the cellar again, as it is now: somebody may have given it another schema.
    ///
    /// # Errors
    /// If it can't be opened.
    fn open_again(&mut self) -> Result<()>;
}

/// When a keeper works.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Pace {
    /// How often it looks.
    pub every: Duration,
    /// So many changes are caught up with at once.
    pub enough: u64,
    /// Fewer wait no longer than this.
    pub patience: Duration,
    /// After so long without a change, large shelves are merged.
    pub idle: Duration,
    /// The share of its time that it may work, from 0 to 1.
    pub load: f64,
}

impl Default for Pace {
    /// Looks four times a second; catches up with a thousand changes at once, and with any after a second; merges after five idle
    /// minutes; works half of the time at most.
    fn default() -> Self {
        Self {
            every: Duration::from_millis(250),
            enough: 1_000,
            patience: Duration::from_secs(1),
            idle: Duration::from_mins(5),
            load: 0.5,
        }
    }
}

/// A thread that keeps a cellar caught up, until it is dropped. What fails is tried again, after a while.
#[derive(Debug)]
pub struct Keeper {
    stop: Arc<Stop>,
    thread: Option<JoinHandle<()>>,
}

/// Tells a keeper to end.
#[derive(Debug, Default)]
pub struct Stop {
    stopped: Mutex<bool>,
    told: Condvar,
}

impl Stop {
    /// Ends the keeper's work as soon as it is between two pieces of it.
    pub fn stop(&self) {
        *self.stopped.lock().unwrap_or_else(PoisonError::into_inner) = true;
        self.told.notify_all();
    }

    /// Waits for so long, or until it is to end; tells whether it is.
    fn wait(&self, time: Duration) -> bool {
        let stopped = self.stopped.lock().unwrap_or_else(PoisonError::into_inner);
        let waited = self.told.wait_timeout_while(stopped, time, |stopped| !*stopped);
        *waited.unwrap_or_else(PoisonError::into_inner).0
    }
}

impl Keeper {
    /// Starts a thread that looks after a cellar. `told` is told what was done, and what failed.
    pub fn start(
        mut kept: impl Kept + 'static,
        pace: Pace,
        told: impl FnMut(Result<&Synced>) + Send + 'static,
    ) -> Self {
        let stop = Arc::new(Stop::default());
        let until = Arc::clone(&stop);
        let thread = std::thread::spawn(move || keep(&mut kept, &pace, &until, told));
        Self { stop, thread: Some(thread) }
    }
}

impl Drop for Keeper {
    fn drop(&mut self) {
        self.stop.stop();
        if let Some(thread) = self.thread.take() {
            // A panic was printed where it happened.
            let _ = thread.join();
        }
    }
}

/// Looks after a cellar until `stop` says to end. `told` is told what was done, and what failed.
pub fn keep(kept: &mut dyn Kept, pace: &Pace, stop: &Stop, mut told: impl FnMut(Result<&Synced>)) {
    let mut rest = Duration::ZERO;
    // Since when changes wait, and since when there were none; whether shelves have been merged since.
    let (mut waiting, mut quiet, mut tidied) = (None, Instant::now(), false);
    while !stop.wait(pace.every.max(rest)) {
        let begun = Instant::now();
        let done = kept.pending(pace.enough).and_then(|pending| {
            if pending > 0 {
                (quiet, tidied) = (begun, false);
                let since = *waiting.get_or_insert(begun);
                if pending < pace.enough && since.elapsed() < pace.patience {
                    return Ok(None);
                }
                waiting = None;
                kept.sync().map(Some)
            } else if !tidied && quiet.elapsed() >= pace.idle {
                tidied = true;
                kept.tidy().map(Some)
            } else {
                Ok(None)
            }
        });
        let worked = begun.elapsed();
        rest = worked.mul_f64((1.0 / pace.load.clamp(0.01, 1.0)) - 1.0);
        match done {
            Ok(None) => {}
            Ok(Some(synced)) => told(Ok(&synced)),
            Err(error) => {
                if error.kind() == ErrorKind::OutOfStep {
                    // Whether that helps the next try tells.
                    let _ = kept.open_again();
                }
                told(Err(error));
                rest = pace.patience;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use nut_cellar_core::Error;

    /// Changes that wait, and what was done.
    #[derive(Default)]
    struct Office {
        pending: u64,
        fails: Option<ErrorKind>,
        done: Vec<&'static str>,
    }

    impl Kept for Arc<Mutex<Office>> {
        fn pending(&mut self, most: u64) -> Result<u64> {
            Ok(self.lock().unwrap().pending.min(most))
        }

        fn sync(&mut self) -> Result<Synced> {
            let mut office = self.lock().unwrap();
            if let Some(kind) = office.fails.take() {
                return Err(Error::new(kind, "not now"));
            }
            office.done.push("sync");
            let put = std::mem::take(&mut office.pending);
            Ok(Synced { put, ..Synced::default() })
        }

        fn tidy(&mut self) -> Result<Synced> {
            self.lock().unwrap().done.push("tidy");
            Ok(Synced::default())
        }

        fn open_again(&mut self) -> Result<()> {
            self.lock().unwrap().done.push("open");
            Ok(())
        }
    }

    /// Waits for what a keeper does; how long that takes is nothing to the test.
    fn until(office: &Mutex<Office>, what: impl Fn(&Office) -> bool) {
        for _ in 0..2_000 {
            if what(&office.lock().unwrap()) {
                return;
            }
            std::thread::sleep(Duration::from_millis(5));
        }
        panic!("it never came to that");
    }

    #[test]
    fn changes_are_caught_up_with_when_they_are_enough_or_old_enough() {
        let office = Arc::new(Mutex::new(Office::default()));
        let never = Duration::from_hours(1);
        let pace =
            Pace { every: Duration::from_millis(1), enough: 5, patience: never, idle: never, load: 1.0 };
        let told = Arc::new(Mutex::new(Vec::new()));
        let telling = Arc::clone(&told);
        let keeper = Keeper::start(Arc::clone(&office), pace, move |done| {
            telling.lock().unwrap().push(done.map(|synced| synced.put).map_err(|error| error.kind()));
        });
        office.lock().unwrap().pending = 4;
        std::thread::sleep(Duration::from_millis(50));
        assert_eq!(office.lock().unwrap().done.len(), 0, "four are not enough");
        office.lock().unwrap().pending = 6;
        until(&office, |office| office.pending == 0);
        drop(keeper);
        assert_eq!(*told.lock().unwrap(), [Ok(6)]);
        office.lock().unwrap().pending = 9;
        std::thread::sleep(Duration::from_millis(20));
        assert_eq!(office.lock().unwrap().pending, 9, "it has ended");

        let pace = Pace { enough: 100, patience: Duration::from_millis(5), ..pace };
        let _keeper = Keeper::start(Arc::clone(&office), pace, |_| ());
        until(&office, |office| office.pending == 0);
    }

    #[test]
    fn what_fails_is_tried_again_and_what_is_idle_is_tidied_once() {
        let office =
            Arc::new(Mutex::new(Office { pending: 1, fails: Some(ErrorKind::Busy), done: Vec::new() }));
        let soon = Duration::from_millis(1);
        let pace = Pace { every: soon, enough: 1, patience: soon, idle: soon, load: 0.9 };
        let failures = Arc::new(Mutex::new(0));
        let counted = Arc::clone(&failures);
        let _keeper = Keeper::start(Arc::clone(&office), pace, move |done| {
            *counted.lock().unwrap() += u32::from(done.is_err());
        });
        until(&office, |office| office.done == ["sync", "tidy"]);
        std::thread::sleep(Duration::from_millis(30));
        assert_eq!((office.lock().unwrap().done.len(), *failures.lock().unwrap()), (2, 1));
        {
            let mut office = office.lock().unwrap();
            (office.pending, office.fails) = (1, Some(ErrorKind::OutOfStep));
        }
        until(&office, |office| office.done == ["sync", "tidy", "open", "sync", "tidy"]);
    }
}
