//! Work that is divided among threads so that nothing shows who did it.

use crate::error::Result;
use std::collections::BTreeMap;
use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};
use std::thread;

/// Does `work` with each of a few things, each in a thread of its own but for the first; gives what comes of it, in order.
pub(crate) fn in_threads<I: Send, T: Send>(
    things: impl Iterator<Item = I>,
    work: impl Fn(I) -> T + Sync,
) -> Vec<T> {
    thread::scope(|scope| {
        let (work, mut things) = (&work, things);
        let first = things.next();
        let others: Vec<_> = things.map(|thing| scope.spawn(move || work(thing))).collect();
        let first = first.map(work);
        let joined = others.into_iter().map(|other| match other.join() {
            Ok(done) => done,
            Err(panic) => std::panic::resume_unwind(panic),
        });
        first.into_iter().chain(joined).collect()
    })
}

/// Does `work` for each number below `count`, in so many threads, and gives what comes of it to `take`, in order and in the
/// calling thread, which works as well while there is nothing to take. A few results for each thread wait at most.
pub(super) fn in_order<T: Send>(
    threads: usize,
    count: usize,
    work: impl Fn(usize) -> T + Sync,
    mut take: impl FnMut(T) -> Result<()>,
) -> Result<()> {
    if threads == 1 {
        return (0..count).try_for_each(|number| take(work(number)));
    }
    let line = Line::new(count, WAITING * threads);
    thread::scope(|scope| {
        for _ in 1..threads {
            scope.spawn(|| {
                let _ended = EndOnPanic(&line);
                while let Some(number) = line.claim() {
                    line.put(number, work(number));
                }
            });
        }
        let _ended = EndOnPanic(&line);
        loop {
            match line.next() {
                Next::Take(done) => take(done).inspect_err(|_| line.end())?,
                Next::Work(number) => line.put(number, work(number)),
                Next::End => return Ok(()),
            }
        }
    })
}

/// So many results for each thread wait to be taken at most.
const WAITING: usize = 4;

/// Numbers that are to be worked on, and results that wait.
struct Line<T> {
    count: usize,
    most: usize,
    state: Mutex<State<T>>,
    changed: Condvar,
}

struct State<T> {
    /// The number that is worked on next, and that of the result that is taken next.
    next: usize,
    taken: usize,
    done: BTreeMap<usize, T>,
    ended: bool,
}

/// What the thread that takes the results does next.
enum Next<T> {
    Take(T),
    Work(usize),
    End,
}

impl<T> Line<T> {
    fn new(count: usize, most: usize) -> Self {
        let state = State { next: 0, taken: 0, done: BTreeMap::new(), ended: false };
        Self { count, most, state: Mutex::new(state), changed: Condvar::new() }
    }

    fn state(&self) -> MutexGuard<'_, State<T>> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn wait<'l>(&self, state: MutexGuard<'l, State<T>>) -> MutexGuard<'l, State<T>> {
        self.changed.wait(state).unwrap_or_else(PoisonError::into_inner)
    }

    /// A number to work on; waits while too many results do. None if there are no more.
    fn claim(&self) -> Option<usize> {
        let mut state = self.state();
        while !state.ended && state.next < self.count && state.next >= state.taken + self.most {
            state = self.wait(state);
        }
        if state.ended || state.next >= self.count {
            return None;
        }
        state.next += 1;
        Some(state.next - 1)
    }

    fn put(&self, number: usize, done: T) {
        self.state().done.insert(number, done);
        self.changed.notify_all();
    }

    fn next(&self) -> Next<T> {
        let mut state = self.state();
        loop {
            let taken = state.taken;
            if state.ended || taken == self.count {
                return Next::End;
            }
            if let Some(done) = state.done.remove(&taken) {
                state.taken += 1;
                self.changed.notify_all();
                return Next::Take(done);
            }
            if state.next < self.count && state.next < taken + self.most {
                state.next += 1;
                return Next::Work(state.next - 1);
            }
            state = self.wait(state);
        }
    }

    fn end(&self) {
        self.state().ended = true;
        self.changed.notify_all();
    }
}

/// Ends the line if its thread panics, so that nobody waits for it.
struct EndOnPanic<'l, T>(&'l Line<T>);

impl<T> Drop for EndOnPanic<'_, T> {
    fn drop(&mut self) {
        if thread::panicking() {
            self.0.end();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::{Error, ErrorKind};

    #[test]
    fn results_are_taken_in_order_whatever_the_threads() {
        for threads in 1..6 {
            for count in [0, 1, 2, 7, 200] {
                let mut taken = Vec::new();
                let slow = |number: usize| {
                    if number.is_multiple_of(5) {
                        thread::yield_now();
                    }
                    number
                };
                let take = |number| {
                    taken.push(number);
                    Ok(())
                };
                in_order(threads, count, slow, take).unwrap();
                assert!(taken.into_iter().eq(0..count));
            }
        }
    }

    #[test]
    fn a_failure_ends_the_work() {
        for threads in 1..4 {
            let failed = in_order(
                threads,
                1_000,
                |number| number,
                |number| match number {
                    7 => Err(Error::new(ErrorKind::Place, "full")),
                    _ => Ok(()),
                },
            );
            assert_eq!(failed.unwrap_err().to_string(), "full");
        }
    }

    #[test]
    fn a_panic_in_any_thread_is_passed_on() {
        for threads in 1..4 {
            for bad in [0, 500, 999] {
                let work = |number: usize| assert!(number != bad, "worked on {bad}");
                let panicked = std::panic::catch_unwind(|| in_order(threads, 1_000, work, Ok));
                assert!(panicked.is_err());
            }
        }
        assert!(std::panic::catch_unwind(|| in_threads(0..3, |n| assert!(n < 2))).is_err());
    }
}
