//! Numbers from which on work is done otherwise. Programs have them as they are. With the feature `measuring` the tests of this workspace
//! set them for what their own thread does, and so come with few rows to what takes millions.

/// Those numbers.
#[derive(Clone, Copy, Debug)]
pub struct Tuning {
    /// How many rows a part of the first fill has: as many as are worth reading again less than a shelf more is worth. Fewer are
    /// published at once.
    pub rows_in_part: u64,
    /// From so many logged changes on it is worth planning a statement that joins them to their rows.
    #[cfg(feature = "postgres")]
    pub joined_from: u64,
}

const USUAL: Tuning = Tuning {
    rows_in_part: 2_000_000,
    #[cfg(feature = "postgres")]
    joined_from: 200,
};

/// The numbers of this thread.
#[cfg(not(feature = "measuring"))]
pub(crate) fn tuning() -> Tuning {
    USUAL
}

#[cfg(feature = "measuring")]
pub use set::tune;
#[cfg(feature = "measuring")]
pub(crate) use set::tuning;

#[cfg(feature = "measuring")]
mod set {
    use super::{Tuning, USUAL};
    use std::cell::Cell;

    thread_local!(static OF_THREAD: Cell<Tuning> = const { Cell::new(USUAL) });

    /// The numbers of this thread.
    pub(crate) fn tuning() -> Tuning {
        OF_THREAD.get()
    }

    /// Gives this thread other numbers.
    pub fn tune(change: impl FnOnce(&mut Tuning)) {
        let mut tuning = tuning();
        change(&mut tuning);
        OF_THREAD.set(tuning);
    }
}
