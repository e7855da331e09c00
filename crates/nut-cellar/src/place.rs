//! Where cellars live: what a place has to do so that they can.
//!
//! What always holds: a transaction counts as a whole or not at all.

#[cfg(doc)]
use nut_cellar_core::ErrorKind;
use nut_cellar_core::store::{MemoryUnit, MemoryView};
use nut_cellar_core::{Memory, Result, Unit, View};

/// What a writer does while somebody else is writing.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub enum Patience {
    /// It gives up at once, with [`ErrorKind::Overtaken`].
    #[default]
    Refuse,
    /// It waits.
    Wait,
}

/// A place that begins and commits transactions by itself.
pub trait Place: Clone + Send + Sync {
    /// What one transaction sees.
    type View: View;
    /// Writing inside a transaction. Dropped without being committed, it leaves nothing.
    type Unit: Unit;

    /// The present state, fixed for as long as the view is held.
    ///
    /// # Errors
    /// If the place can't be read.
    fn view(&self) -> Result<Self::View>;

    /// Begins a transaction.
    ///
    /// # Errors
    /// If the place can't be written, or [`ErrorKind::Overtaken`] if somebody else is writing, the place allows just one,
    /// and it is not to wait.
    fn unit(&self, patience: Patience) -> Result<Self::Unit>;

    /// Makes a transaction count.
    ///
    /// # Errors
    /// [`ErrorKind::Overtaken`] if somebody else was faster, or if the place can't be written; nothing is changed then.
    fn commit(unit: Self::Unit) -> Result<()>;
}

impl Place for Memory {
    type View = MemoryView;
    type Unit = MemoryUnit;

    fn view(&self) -> Result<Self::View> {
        Ok(Self::view(self))
    }

    fn unit(&self, patience: Patience) -> Result<Self::Unit> {
        Ok(match patience {
            Patience::Refuse => Self::unit(self),
            Patience::Wait => self.unit_in_turn(),
        })
    }

    fn commit(unit: Self::Unit) -> Result<()> {
        unit.commit()
    }
}
