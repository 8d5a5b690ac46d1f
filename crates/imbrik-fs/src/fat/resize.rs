//! A FAT volume at another size, as a view.
//!
//! Shrinking keeps the tables at their place: clusters past the new end move into free ones before it, and tables and
//! folders are updated. Growing beyond the capacity of the tables extends them; then all clusters move to higher
//! offsets and keep their numbers and their alignment.

use super::{
    boot::{BootSector, Width},
    loader::{self, Loader},
    table::Table,
    tree::Census,
};
use crate::{
    GrowthLimit, NewSize, ResizeWarning, ResizedVolume,
    bits::Run,
    clusters::{self, Clusters},
};
use imbrik_store::{
    Concatenated, Edited, ReadAt, bytes,
    error::{Class, Error, Result},
    exact::Exact as _,
    progress::Cancel,
    read_vec,
    units::{ByteLen, ByteOffset},
};
use std::sync::Arc;

/// The maximum alignment of clusters that is kept.
const MOST_ALIGNED: u64 = 4 << 20;
const MOST_RESERVED: u64 = 65_535;

/// The census of a volume, before its new size is decided.
struct CensusedVolume {
    boot: BootSector,
    table: Table,
    census: Census,
}

/// The shape of a volume.
#[derive(Clone, Copy)]
struct NewLayout {
    reserved: u64,
    table_sectors: u64,
    clusters: u64,
}

impl NewLayout {
    fn first_data(self, boot: &BootSector) -> Result<u64> {
        let tables = boot.table_count.times(self.table_sectors)?;
        self.reserved.plus(tables)?.plus(boot.root_sectors)
    }

    fn sectors(self, boot: &BootSector) -> Result<u64> {
        let data = self.clusters.times(boot.sec_per_clus)?;
        self.first_data(boot)?.plus(data)
    }
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
    let (shape, limit) = known.shape(goal)?;
    let CensusedVolume { boot, table, census } = &known;
    let bytes = |sectors: u64| sectors.times(boot.sector).map(ByteLen::new);
    let moves = clusters::moves(&census.used, &census.bad, &[], shape.clusters, boot.cluster)?;
    let clusters = Clusters {
        len: boot.cluster,
        was: boot.data().start(),
        is: ByteOffset::new(bytes(shape.first_data(boot)?)?.get()),
        had: boot.clusters,
        count: shape.clusters,
        moves,
    }
    .proved()?;
    let target_of = |number: u64| clusters.moves.target_of(number);
    let table_len = bytes(shape.table_sectors)?;
    let moved: Arc<dyn ReadAt> = Arc::new(table.moved(shape.clusters, table_len, target_of)?);
    let mut pieces = Concatenated::new(store.sector_size());
    let reserved = bytes(boot.reserved)?;
    pieces.push(store, ByteOffset::ZERO, reserved);
    pieces.push_zeros(bytes(shape.reserved)?.minus(reserved)?);
    for _ in 0..boot.table_count {
        pieces.push(&moved, ByteOffset::ZERO, table_len);
    }
    let root = bytes(boot.root_sectors)?;
    let old_root = ByteOffset::new(boot.data().start().get().minus(root.get())?);
    pieces.push(store, old_root, root);
    clusters.push_onto(&mut pieces, store);
    let mut draft = Edited::new(Arc::new(pieces));
    known.edit_boot(&mut draft, shape, &target_of)?;
    for pointer in &census.pointers {
        let target = target_of(pointer.first);
        if target == pointer.first {
            continue;
        }
        let at = match pointer.at < boot.data().start() {
            true => {
                let ahead = pointer.at.saturating_since(old_root);
                let root = clusters.is.get().minus(root.get())?;
                ByteOffset::new(root).plus(ahead)?
            }
            false => clusters.follow(pointer.at),
        };
        let number = target.plus(2)?.exact_as::<u32>()?.to_le_bytes();
        let [a, b, c, d] = number;
        draft.put(at.plus(ByteLen::new(26))?, &[a, b])?;
        if boot.width == Width::Bits32 {
            draft.put(at.plus(ByteLen::new(20))?, &[c, d])?;
        }
    }
    let warning = known.follow_loader(&**store, &mut draft, &clusters)?;
    let rewritten = draft.spans();
    let draft: Arc<dyn ReadAt> = Arc::new(draft);
    known.prove(&*draft, &clusters, cancel).map_err(clusters::would_be_wrong)?;
    let mut resized = clusters.resized(draft, rewritten, limit);
    resized.warnings.extend(warning);
    Ok(resized)
}

/// The smallest size of the volume in `store`.
///
/// # Errors
/// As [`resize`].
pub(crate) fn smallest(store: &dyn ReadAt, cancel: &Cancel) -> Result<ByteLen> {
    let known = CensusedVolume::of(store, cancel)?;
    let (shape, _) = known.shape(NewSize::Smallest { room: ByteLen::ZERO })?;
    let sectors = shape.sectors(&known.boot)?;
    Ok(ByteLen::new(sectors.times(known.boot.sector)?))
}

/// Reads every folder and chain.
///
/// # Errors
/// As [`crate::check`].
pub(crate) fn check(store: &dyn ReadAt, cancel: &Cancel) -> Result<()> {
    CensusedVolume::of(store, cancel).map(drop)
}

impl CensusedVolume {
    fn of(store: &dyn ReadAt, cancel: &Cancel) -> Result<Self> {
        let sector = read_vec(store, ByteOffset::ZERO, 512)?;
        let boot =
            BootSector::decode(&sector).ok_or_else(|| Error::corrupt("its boot sector is gone"))?;
        if boot.volume_len > store.size() {
            return Err(Error::corrupt("it says that it is longer than its place"));
        }
        let table = Table::read(store, &boot)?;
        let census = Census::of(store, &boot, &table, &|number| number, cancel)?;
        Ok(Self { boot, table, census })
    }

    /// The layout for a new size, and the limit if it is smaller than requested.
    fn shape(&self, goal: NewSize) -> Result<(NewLayout, Option<GrowthLimit>)> {
        let boot = &self.boot;
        let (fewest, most) = boot.bounds();
        let now = NewLayout {
            reserved: boot.reserved,
            table_sectors: boot.table_sectors,
            clusters: boot.clusters,
        };
        let least = clusters::fewest(&self.census.used, &self.census.bad, fewest);
        let clusters_in = |len: ByteLen| {
            let sectors = len.get().over(boot.sector)?.min(u32::MAX.into());
            // A volume that is shorter than its first data sector has no cluster.
            let data = sectors.saturating_sub(now.first_data(boot)?);
            data.over(boot.sec_per_clus)
        };
        let wanted = match goal {
            NewSize::Smallest { room } => {
                let more = room.get().div_ceil(boot.cluster.get().max(1));
                // More than there can be is refused below.
                least.saturating_add(more)
            }
            NewSize::Bytes(len) => clusters_in(len)?,
        };
        if wanted < least {
            return Err(clusters::lacks_room(boot.cluster.times(least.minus(wanted)?)?));
        }
        let limit = if wanted > most {
            let most = NewLayout { clusters: most, ..now }.sectors(boot)?;
            Some(GrowthLimit {
                cluster: boot.cluster,
                most: ByteLen::new(most.times(boot.sector)?),
            })
        } else {
            None
        };
        let wanted = wanted.min(most);
        let room = match goal {
            NewSize::Bytes(len) => len.get().over(boot.sector)?.min(u32::MAX.into()),
            NewSize::Smallest { .. } => u32::MAX.into(),
        };
        Ok((self.with_clusters(now, wanted, room)?, limit))
    }

    /// A shape of up to `wanted` clusters in `room` sectors, the tables made longer when they must
    /// be.
    fn with_clusters(&self, now: NewLayout, wanted: u64, room: u64) -> Result<NewLayout> {
        let boot = &self.boot;
        let sectors_for = |clusters: u64| {
            let bits = clusters.plus(2)?.times(boot.width.bits())?;
            Ok::<_, Error>(bits.div_ceil(8).div_ceil(boot.sector.max(1)))
        };
        let mut shape = NewLayout { clusters: wanted, ..now };
        if sectors_for(wanted)? <= now.table_sectors {
            return Ok(shape);
        }
        // The alignment of clusters is kept: the remaining sectors before them become reserved sectors.
        let was = now.first_data(boot)?;
        let unit = 1u64.checked_shl(was.trailing_zeros()).unwrap_or(1);
        let unit = unit.min(MOST_ALIGNED.over(boot.sector)?).max(1);
        shape.table_sectors = sectors_for(wanted)?;
        let further = shape.first_data(boot)?.minus(was)?;
        let padded = shape.reserved.plus(further.next_multiple_of(unit).minus(further)?)?;
        if padded <= MOST_RESERVED {
            shape.reserved = padded;
        }
        let data = room.saturating_sub(shape.first_data(boot)?);
        shape.clusters = wanted.min(data.over(boot.sec_per_clus)?);
        // So little more that the longer tables would take all of it.
        Ok(if shape.clusters < now.clusters { now } else { shape })
    }

    /// Updates the boot sector, and its backup and counts on FAT32.
    fn edit_boot(
        &self,
        draft: &mut Edited,
        shape: NewLayout,
        target_of: &dyn Fn(u64) -> u64,
    ) -> Result<()> {
        let boot = &self.boot;
        let is_32 = boot.width == Width::Bits32;
        let sectors = shape.sectors(boot)?;
        let small = u16::try_from(sectors).ok().filter(|_| !is_32).unwrap_or(0);
        let large = if small == 0 { sectors.exact_as::<u32>()? } else { 0 };
        let reserved = shape.reserved.exact_as::<u16>()?.to_le_bytes();
        let place = |sector: u64, at: u64| {
            ByteOffset::new(sector.saturating_mul(boot.sector).saturating_add(at))
        };
        let is_inside = |sector: &u64| *sector > 0 && *sector < boot.reserved;
        let backup = Some(boot.backup).filter(is_inside);
        for copy in [Some(0), backup].into_iter().flatten() {
            // An invalid backup is unchanged.
            let found = read_vec(draft, place(copy, 0), 512)?;
            if BootSector::decode(&found).is_none() {
                continue;
            }
            draft.put(place(copy, 14), &reserved)?;
            draft.put(place(copy, 19), &small.to_le_bytes())?;
            draft.put(place(copy, 32), &large.to_le_bytes())?;
            if is_32 {
                let len = shape.table_sectors.exact_as::<u32>()?;
                draft.put(place(copy, 36), &len.to_le_bytes())?;
                let root = u64::from(boot.root_cluster).minus(2)?;
                let root = target_of(root).plus(2)?.exact_as::<u32>()?;
                draft.put(place(copy, 44), &root.to_le_bytes())?;
            } else {
                let len = u16::try_from(shape.table_sectors)
                    .map_err(|_| Error::unsupported("its tables cannot become so long"))?;
                draft.put(place(copy, 22), &len.to_le_bytes())?;
            }
        }
        let used = self.census.used.count();
        let within = Run::new(0, shape.clusters);
        let bad = self.census.bad.count_in(within);
        let free = shape.clusters.minus(used)?.minus(bad)?;
        let infos = [Some(boot.fs_info), backup.map(|at| at.saturating_add(boot.fs_info))];
        for info in infos.into_iter().flatten().filter(is_inside) {
            let found = read_vec(draft, place(info, 0), 512)?;
            let signed = bytes::le_u32(&found, 0) == Some(0x4161_5252)
                && bytes::le_u32(&found, 484) == Some(0x6141_7272);
            if !signed {
                continue;
            }
            let free = free.exact_as::<u32>()?;
            draft.put(place(info, 488), &free.to_le_bytes())?;
            let hint = bytes::le_u32(&found, 492).unwrap_or(u32::MAX);
            if u64::from(hint) >= shape.clusters.plus(2)? {
                draft.put(place(info, 492), &u32::MAX.to_le_bytes())?;
            }
        }
        Ok(())
    }

    /// Updates a boot loader with a list of its sectors; returns a warning if that is impossible.
    fn follow_loader(
        &self,
        store: &dyn ReadAt,
        draft: &mut Edited,
        clusters: &Clusters,
    ) -> Result<Option<ResizeWarning>> {
        let Self { boot, table, .. } = self;
        if !loader::is_one(&read_vec(store, ByteOffset::ZERO, 512)?) {
            return Ok(None);
        }
        let backup = Some(boot.backup).filter(|at| *at > 0 && *at < boot.reserved);
        let backup = backup.map(|at| ByteOffset::new(at.saturating_mul(boot.sector)));
        let followed = match Loader::find(store, boot, table)? {
            Some(found) => {
                let place_of = |number: u64| clusters.new_place(clusters.moves.target_of(number));
                found.follow(draft, backup, place_of, |number| clusters.old_place(number))
            }
            None => Err(Error::unsupported("it is not where it should be, or its list is damaged")),
        };
        match followed {
            Err(error) if error.class() == Class::Unsupported => {
                Ok(Some(ResizeWarning::LoaderLeftBehind { why: error.to_string() }))
            }
            other => other.map(|()| None),
        }
    }

    /// Verifies the finished volume as thoroughly as its source.
    fn prove(&self, draft: &dyn ReadAt, clusters: &Clusters, cancel: &Cancel) -> Result<()> {
        let sector = read_vec(draft, ByteOffset::ZERO, 512)?;
        let boot = BootSector::decode(&sector)
            .ok_or_else(|| Error::corrupt("its boot sector is invalid"))?;
        let as_planned = boot.width == self.boot.width
            && boot.clusters == clusters.count
            && boot.data().start() == clusters.is
            && boot.volume_len == draft.size();
        if !as_planned {
            return Err(Error::corrupt("its boot sector describes a different volume"));
        }
        let table = Table::read(draft, &boot)?;
        let source_of = |number: u64| {
            let mut source = number;
            let one = Run::new(number, 1);
            clusters.moves.sources(one, |_, from| source = from.first);
            source
        };
        let census = Census::of(draft, &boot, &table, &source_of, cancel)?;
        if census.fingerprint != self.census.fingerprint
            || census.lost != self.census.lost
            || census.used.count() != self.census.used.count()
        {
            return Err(Error::corrupt("its files are not those of the source"));
        }
        Ok(())
    }
}
