//! Allocating and freeing clusters.

use crate::bits::{Bits, Run};
use imbrik_store::{
    error::{Error, Result},
    exact::Exact as _,
};

/// The clusters of a volume.
pub(crate) struct ClusterSpace {
    /// Those that were in use before.
    was: Bits,
    /// The used clusters, including freed ones.
    used: Bits,
    freed: Bits,
    keeps_old: bool,
}

impl ClusterSpace {
    /// Creates it for a volume whose `used` clusters are in use or bad.
    pub(crate) fn of(used: Bits) -> Self {
        let len = used.len();
        Self { was: used.clone(), used, freed: Bits::new(len), keeps_old: false }
    }

    pub(super) fn keep_old(&mut self) {
        self.keeps_old = true;
    }

    pub(super) fn keeps_old(&self) -> bool {
        self.keeps_old
    }

    /// How many are free.
    pub(super) fn free(&self) -> u64 {
        let free = self.used.len().saturating_sub(self.used.count());
        free.saturating_add(self.freed.count())
    }

    /// Allocates up to `most` consecutive free clusters, as close after `near` as possible. Freed clusters come last,
    /// unless `is_written` returns that they have new content.
    ///
    /// # Errors
    /// [`imbrik_store::Class::NoRoom`] when none is free.
    pub(super) fn take_run(
        &mut self,
        near: u64,
        most: u64,
        is_written: &dyn Fn(u64) -> bool,
    ) -> Result<Run> {
        let all = self.used.len();
        let behind = self.used.holes(Run::between(near.min(all), all)).next();
        let hole = behind.or_else(|| self.used.holes(Run::new(0, all)).next());
        let run = match hole {
            Some(hole) => {
                let run = Run::new(hole.first, hole.len.min(most));
                self.used.add(run);
                run
            }
            None => {
                let again = self.freed.runs(Run::new(0, all)).flat_map(|run| run.first..run.end());
                let again = { again }.find(|cluster| !self.keeps_old && !is_written(*cluster));
                let again = again.ok_or_else(|| Error::no_room("no cluster is free"))?;
                self.freed.remove(Run::new(again, 1));
                Run::new(again, 1)
            }
        };
        Ok(run)
    }

    /// # Errors
    /// [`imbrik_store::Class::Corrupt`] when one of them is free already.
    pub(super) fn give_back(&mut self, run: Run) -> Result<()> {
        let is_used = self.used.count_in(run) == run.len;
        match is_used && self.freed.add(run) {
            true => Ok(()),
            false => {
                let cluster = run.first.plus(2)?;
                Err(Error::corrupt(format!("a cluster from {cluster} on has two owners")))
            }
        }
    }

    pub(super) fn was_given_back(&self, cluster: u64) -> bool {
        self.freed.contains(cluster)
    }

    /// The freed clusters that were not allocated again.
    pub(crate) fn freed(&self) -> impl Iterator<Item = Run> + '_ {
        self.freed.runs(Run::new(0, self.freed.len()))
    }

    /// The newly allocated clusters.
    pub(crate) fn taken(&self) -> impl Iterator<Item = u64> + '_ {
        let all = Run::new(0, self.used.len());
        let used = self.used.runs(all).flat_map(|run| run.first..run.end());
        used.filter(|cluster| !self.was.contains(*cluster) && !self.freed.contains(*cluster))
    }

    /// The number of used clusters.
    pub(crate) fn in_use(&self) -> u64 {
        self.used.count().saturating_sub(self.freed.count())
    }

    /// Returns whether one was in use before.
    pub(crate) fn was_used(&self, cluster: u64) -> bool {
        self.was.contains(cluster)
    }
}
