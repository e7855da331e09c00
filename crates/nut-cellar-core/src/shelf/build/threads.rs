//! Work that is divided among threads so that nothing shows who did it.

use crate::error::Result;
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
/// calling thread. A few results for each thread wait at most.
pub(in crate::shelf) fn in_order<T: Send>(
    threads: usize,
    count: usize,
    work: impl Fn(usize) -> T + Sync,
    mut take: impl FnMut(T) -> Result<()>,
) -> Result<()> {
    for start in (0..count).step_by(threads * AT_ONCE) {
        let end = count.min(start + threads * AT_ONCE);
        let of_thread = |thread| (start + thread..end).step_by(threads).map(&work).collect::<Vec<_>>();
        let mut done: Vec<_> = in_threads(0..threads, of_thread).into_iter().map(Vec::into_iter).collect();
        for thread in (0..threads).cycle().take(end - start) {
            done[thread].next().map_or(Ok(()), &mut take)?;
        }
    }
    Ok(())
}

/// So much is worked on by each thread before what comes of it is taken.
const AT_ONCE: usize = 4;

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
