//! An exFAT volume at another size, as a view.
//!
//! Shrinking keeps the table at its place: clusters past the new end move into free ones before it. Growing extends the
//! table, first into the gap after it; then all clusters move to higher offsets and keep their numbers. The allocation
//! bitmap is always rewritten, contiguously if possible. A contiguous file stays contiguous if a hole holds all of it,
//! and gets a chain otherwise.

use super::{
    boot::{BootSector, seal_region},
    folders::{Census, ENTRY, Set, walk},
};
use crate::{
    NewSize, ResizedVolume,
    bits::{Bits, Run},
    clusters::{self, Clusters},
    placement::Moves,
};
use imbrik_store::{
    Concatenated, Edited, ReadAt, SparseStore, WriteAt, bytes,
    error::{Error, Result},
    exact::Exact as _,
    progress::Cancel,
    read_vec,
    units::{ByteLen, ByteOffset},
};
use std::sync::Arc;

/// The maximum alignment of clusters that is kept.
const MOST_ALIGNED: u64 = 4 << 20;
/// The most clusters there can be.
const MOST_CLUSTERS: u64 = 0xffff_fff5;
/// Sectors of the boot region and its copy.
const REGION: u64 = 12;
const NO_CHAIN: u8 = 2;

/// The census of a volume, before its new size is decided.
struct CensusedVolume {
    boot: BootSector,
    census: Census,
    /// The used clusters, without the bitmap.
    used: Bits,
}

/// The shape of a volume: bytes from its start, but for the clusters.
#[derive(Clone, Copy)]
struct NewLayout {
    table_len: ByteLen,
    heap: ByteOffset,
    clusters: u64,
}

/// The volume in `store` at another size.
///
/// # Errors
/// As [`crate::resize`].
pub(crate) fn resize(
    store: &Arc<dyn ReadAt>,
    goal: NewSize,
    cancel: &Cancel,
) -> Result<ResizedVolume> {
    let known = CensusedVolume::of(&**store, cancel)?;
    let CensusedVolume { boot, census, used } = &known;
    let shape = known.shape(goal)?;
    let bitmap = known.bitmap_place(shape.clusters)?;
    let mut taken = used.clone().reaching(shape.clusters);
    for run in &bitmap {
        taken.add(*run);
    }
    let none = Bits::new(taken.len());
    let moves = clusters::moves(&taken, &none, &census.plain, shape.clusters, boot.cluster)?;
    let clusters = Clusters {
        len: boot.cluster,
        was: boot.data().start(),
        is: shape.heap,
        had: boot.clusters,
        count: shape.clusters,
        moves,
    }
    .proved()?;
    let table = SparseStore::new(shape.table_len);
    let head = read_vec(&**store, boot.table.start(), 8)?;
    table.write_at(ByteOffset::ZERO, &head)?;
    put_chain(&table, &bitmap)?;
    let mut edits = Vec::new();
    let root = walk(&**store, boot, cancel, &mut |set| {
        edit_set(set, &clusters, &bitmap, &table, &mut edits)
    })?;
    put_chain(&table, &moved(&root, &clusters.moves))?;

    let mut pieces = Concatenated::new(store.sector_size());
    pieces.push(store, ByteOffset::ZERO, ByteLen::new(boot.table.start().get()));
    let table: Arc<dyn ReadAt> = Arc::new(table);
    pieces.push(&table, ByteOffset::ZERO, shape.table_len);
    let behind = boot.table.start().plus(shape.table_len)?;
    let gap = ByteLen::new(shape.heap.get().minus(behind.get())?);
    match shape.heap == boot.data().start() {
        true => pieces.push(store, behind, gap),
        false => pieces.push_zeros(gap),
    }
    clusters.push_onto(&mut pieces, store);
    let mut draft = Edited::new(Arc::new(pieces));
    for (at, bytes) in edits {
        draft.put(clusters.follow(at), &bytes)?;
    }
    known.put_bitmap(&mut draft, &clusters, &bitmap)?;
    known.edit_boot(&mut draft, shape, &clusters, &bitmap)?;

    let rewritten = draft.spans();
    let draft: Arc<dyn ReadAt> = Arc::new(draft);
    known.prove(&*draft, &clusters, &bitmap, cancel).map_err(clusters::would_be_wrong)?;
    Ok(clusters.resized(draft, rewritten, None))
}

/// The smallest size of the volume in `store`.
///
/// # Errors
/// As [`resize`].
pub(crate) fn smallest(store: &dyn ReadAt, cancel: &Cancel) -> Result<ByteLen> {
    let known = CensusedVolume::of(store, cancel)?;
    let shape = known.shape(NewSize::Smallest { room: ByteLen::ZERO })?;
    let data = known.boot.cluster.checked_mul(shape.clusters).unwrap_or_default();
    Ok(ByteLen::new(shape.heap.plus(data)?.get()))
}

/// Reads every folder and chain.
///
/// # Errors
/// As [`crate::check`].
pub(crate) fn check(store: &dyn ReadAt, cancel: &Cancel) -> Result<()> {
    CensusedVolume::of(store, cancel).map(drop)
}

/// Runs of the source where they are now.
fn moved(runs: &[Run], moves: &Moves) -> Vec<Run> {
    let mut out: Vec<Run> = Vec::new();
    for run in runs {
        moves.targets(*run, |_, to| match out.last_mut() {
            Some(last) if last.end() == to.first => *last = Run::between(last.first, to.end()),
            _ => out.push(to),
        });
    }
    out
}

/// Writes the chain of `runs` into a table.
fn put_chain(table: &SparseStore, runs: &[Run]) -> Result<()> {
    let mut next = runs.iter().skip(1).map(|run| run.first);
    for run in runs {
        let end = next.next().map_or(Ok(u32::MAX), entry_of)?;
        let mut bytes = Vec::new();
        for number in run.first.plus(1)?..run.end() {
            bytes.extend(entry_of(number)?.to_le_bytes());
        }
        bytes.extend(end.to_le_bytes());
        let at = run.first.plus(2)?.times(4)?;
        table.write_at(ByteOffset::new(at), &bytes)?;
    }
    Ok(())
}

/// Cluster `number`, counted from 0, as tables and entries count.
fn entry_of(number: u64) -> Result<u32> {
    number.plus(2)?.exact_as()
}

/// The changes, with offsets in the source, that make an entry set refer to the new clusters; its chains are written to
/// `table`.
fn edit_set(
    set: &Set,
    clusters: &Clusters,
    bitmap: &[Run],
    table: &SparseStore,
    edits: &mut Vec<(ByteOffset, Vec<u8>)>,
) -> Result<()> {
    let mut edited = Set { raw: set.raw.clone(), places: Vec::new(), holdings: Vec::new() };
    for holding in &set.holdings {
        let at = holding.entry.times(ENTRY)?;
        let runs = match set.is_bitmap() {
            true => bitmap.to_vec(),
            false => moved(&holding.runs, &clusters.moves),
        };
        let first = runs.first().map_or(Ok(0), |run| entry_of(run.first))?;
        let _ = bytes::put(&mut edited.raw, at.plus(20)?, first.to_le_bytes());
        if set.is_bitmap() {
            let len = clusters.count.div_ceil(8);
            let _ = bytes::put(&mut edited.raw, at.plus(24)?, len.to_le_bytes());
            continue;
        }
        if holding.is_plain && runs.len() == 1 {
            continue;
        }
        if holding.is_plain {
            // The flags of a primary entry are at another offset than those of a secondary one.
            let flags = at.plus(if holding.entry == 0 { 4 } else { 1 })?;
            let has = bytes::u8(&edited.raw, flags).unwrap_or(0);
            let _ = bytes::put(&mut edited.raw, flags, [has & !NO_CHAIN]);
        }
        put_chain(table, &runs)?;
    }
    if edited.raw == set.raw {
        return Ok(());
    }
    if set.is_sealed() {
        let sum = edited.checksum();
        let _ = bytes::put(&mut edited.raw, 2, sum.to_le_bytes());
    }
    for (place, entry) in set.places.iter().zip(edited.raw.chunks(ENTRY)) {
        edits.push((*place, entry.to_vec()));
    }
    Ok(())
}

impl CensusedVolume {
    fn of(store: &dyn ReadAt, cancel: &Cancel) -> Result<Self> {
        let sector = read_vec(store, ByteOffset::ZERO, 512)?;
        let boot =
            BootSector::decode(&sector).ok_or_else(|| Error::corrupt("its boot sector is gone"))?;
        let census = Census::of(store, &boot, &|number| number, cancel)?;
        let mut used = census.used.clone();
        census.bitmap.iter().for_each(|run| used.remove(*run));
        Ok(Self { boot, census, used })
    }

    /// The number of clusters of the bitmap for so many clusters.
    fn bitmap_len(&self, clusters: u64) -> u64 {
        clusters.div_ceil(8).div_ceil(self.boot.cluster.get().max(1))
    }

    fn shape(&self, goal: NewSize) -> Result<NewLayout> {
        let boot = &self.boot;
        let now = NewLayout {
            table_len: boot.table.len(),
            heap: boot.data().start(),
            clusters: boot.clusters,
        };
        let used = self.used.count();
        // The bitmap counts itself.
        let mut least = used;
        while used.plus(self.bitmap_len(least))? > least {
            least = used.plus(self.bitmap_len(least))?;
        }
        let fits = |heap: ByteOffset, len: ByteLen| {
            // A volume that is shorter than its cluster heap offset has no cluster.
            let room = len.saturating_sub(ByteLen::new(heap.get())).get();
            Ok::<_, Error>(room.over(boot.cluster.get())?.min(MOST_CLUSTERS))
        };
        let wanted = match goal {
            NewSize::Smallest { room } => {
                let more = room.get().div_ceil(boot.cluster.get().max(1));
                least.saturating_add(more).min(MOST_CLUSTERS)
            }
            NewSize::Bytes(len) => fits(now.heap, len)?,
        };
        if wanted < least {
            return Err(clusters::lacks_room(boot.cluster.times(least.minus(wanted)?)?));
        }
        let table_for = |clusters: u64| {
            let bytes = clusters.plus(2)?.times(4)?;
            Ok::<_, Error>(ByteLen::new(bytes.next_multiple_of(boot.sector.max(1))))
        };
        let mut shape = NewLayout { clusters: wanted, ..now };
        if table_for(wanted)? <= now.table_len {
            return Ok(shape);
        }
        shape.table_len = table_for(wanted)?;
        let behind = boot.table.start().plus(shape.table_len)?;
        if behind <= now.heap {
            return Ok(shape);
        }
        let unit = 1u64.checked_shl(now.heap.get().trailing_zeros()).unwrap_or(1);
        let unit = unit.clamp(boot.sector, MOST_ALIGNED.max(boot.sector));
        let shift = behind.get().minus(now.heap.get())?.next_multiple_of(unit.max(1));
        shape.heap = now.heap.plus(ByteLen::new(shift))?;
        if let NewSize::Bytes(len) = goal {
            shape.clusters = wanted.min(fits(shape.heap, len)?);
        }
        // So little more that the longer table would take all of it.
        Ok(if shape.clusters < now.clusters { now } else { shape })
    }

    /// The location of the bitmap in a volume of so many clusters: the present one, or one contiguous hole, or else the
    /// longest holes.
    fn bitmap_place(&self, clusters: u64) -> Result<Vec<Run>> {
        let needed = self.bitmap_len(clusters);
        let within = Run::new(0, clusters);
        let taken = self.used.clone().reaching(clusters);
        let now = self.census.bitmap.first().map(|run| Run::new(run.first, needed));
        if let Some(now) = now.filter(|now| now.end() <= clusters && taken.count_in(*now) == 0) {
            return Ok(vec![now]);
        }
        let mut holes: Vec<Run> = taken.holes(within).collect();
        if let Some(hole) = holes.iter().find(|hole| hole.len >= needed) {
            return Ok(vec![Run::new(hole.first, needed)]);
        }
        holes.sort_unstable_by_key(|hole| std::cmp::Reverse(hole.len));
        let mut rest = needed;
        let mut runs = Vec::new();
        for hole in holes {
            let len = hole.len.min(rest);
            runs.extend(Some(Run::new(hole.first, len)).filter(|run| run.len > 0));
            rest = rest.minus(len)?;
        }
        match rest {
            0 => Ok(runs),
            _ => Err(Error::no_room("its allocation bitmap does not fit")),
        }
    }

    fn put_bitmap(&self, draft: &mut Edited, clusters: &Clusters, place: &[Run]) -> Result<()> {
        let mut used = Bits::new(clusters.count);
        for run in self.used.runs(Run::new(0, self.used.len())) {
            clusters.moves.targets(run, |_, to| {
                used.add(to);
            });
        }
        for run in place {
            used.add(*run);
        }
        let all: u64 = place.iter().map(|run| run.len).sum();
        let len = clusters.len.checked_mul(all).and_then(ByteLen::to_usize);
        let len = len.ok_or_else(|| Error::unsupported("its allocation bitmap is too long"))?;
        let bits = len.exact_as::<u64>()?.times(8)?;
        let content = used.bitmap(Run::new(0, bits), len);
        let mut rest = content.as_slice();
        for run in place {
            let len = clusters.len.checked_mul(run.len).and_then(ByteLen::to_usize).unwrap_or(0);
            let (now, later) = rest.split_at(len.min(rest.len()));
            draft.put(clusters.new_place(run.first), now)?;
            rest = later;
        }
        Ok(())
    }

    /// Updates the boot region and its backup.
    fn edit_boot(
        &self,
        draft: &mut Edited,
        shape: NewLayout,
        clusters: &Clusters,
        bitmap: &[Run],
    ) -> Result<()> {
        let boot = &self.boot;
        let sectors = |bytes: u64| bytes.checked_div(boot.sector).unwrap_or(0);
        let short = |value: u64| {
            u32::try_from(value).map_err(|_| Error::unsupported("it cannot become so long"))
        };
        let len = boot.sector.times(REGION)?.exact_as::<usize>()?;
        let all = self.used.count().plus(bitmap.iter().map(|run| run.len).sum())?;
        let percent = all.times(100)?.over(shape.clusters)?;
        for copy in [0, boot.sector.times(REGION)?] {
            let at = ByteOffset::new(copy);
            let mut region = read_vec(draft, at, len)?;
            if BootSector::decode(&region).is_none() {
                continue;
            }
            let put = |region: &mut Vec<u8>| {
                bytes::put(region, 72, sectors(clusters.end().get()).to_le_bytes())?;
                bytes::put(region, 84, short(sectors(shape.table_len.get())).ok()?.to_le_bytes())?;
                bytes::put(region, 88, short(sectors(shape.heap.get())).ok()?.to_le_bytes())?;
                bytes::put(region, 92, short(shape.clusters).ok()?.to_le_bytes())?;
                let root = clusters.moves.target_of(boot.root_cluster);
                bytes::put(region, 96, entry_of(root).ok()?.to_le_bytes())?;
                if bytes::u8(region, 112) != Some(0xff) {
                    bytes::put(region, 112, [u8::try_from(percent).unwrap_or(0xff)])?;
                }
                seal_region(region, boot.sector)
            };
            put(&mut region).ok_or_else(|| Error::unsupported("it cannot become so long"))?;
            draft.put(at, &region)?;
        }
        Ok(())
    }

    /// Verifies the finished volume as thoroughly as its source.
    fn prove(
        &self,
        draft: &dyn ReadAt,
        clusters: &Clusters,
        bitmap: &[Run],
        cancel: &Cancel,
    ) -> Result<()> {
        let sector = read_vec(draft, ByteOffset::ZERO, 512)?;
        let boot = BootSector::decode(&sector)
            .ok_or_else(|| Error::corrupt("its boot sector is invalid"))?;
        let as_planned = boot.clusters == clusters.count
            && boot.data().start() == clusters.is
            && boot.volume_len == draft.size();
        if !as_planned {
            return Err(Error::corrupt("its boot sector describes a different volume"));
        }
        let source_of = |number: u64| {
            let mut source = number;
            clusters.moves.sources(Run::new(number, 1), |_, from| source = from.first);
            source
        };
        let census = Census::of(draft, &boot, &source_of, cancel)?;
        let of_bitmap: u64 = bitmap.iter().map(|run| run.len).sum();
        if census.fingerprint != self.census.fingerprint
            || census.lost != self.census.lost
            || census.used.count() != self.used.count().plus(of_bitmap)?
        {
            return Err(Error::corrupt("its files are not those of the source"));
        }
        Ok(())
    }
}
