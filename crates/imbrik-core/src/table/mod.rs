//! Partition tables: parsing and writing them.
//!
//! [`read`] detects the kind of table on a card. If one copy of a table is damaged, the other one is used, and
//! [`Table::findings`] reports it.

mod finding;
mod gpt;
mod mbr;

pub use finding::TableFinding;
pub use gpt::{Gpt, GptPartition};
pub use mbr::{Mbr, MbrPartition};

use imbrik_store::{
    ReadAt,
    error::Result,
    units::{ByteLen, ByteOffset, SectorSize, Span},
};
use std::fmt;

/// A partition table as found on a card.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Table {
    /// A master boot record, with its chain of logical partitions.
    Mbr(Mbr),
    /// A GUID partition table.
    Gpt(Gpt),
}

/// One entry of a table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Partition {
    /// Its number as systems count: 1 to 4 primary, from 5 logical; on a GPT its place in the array.
    pub number: u32,
    /// Its range. It can extend past the card's end if the table is wrong or the card too short.
    pub span: Span,
    /// Its type in the table.
    pub kind: PartitionKind,
    /// Its name; only a GPT has any.
    pub name: Option<String>,
    /// Its id as shown by systems, the `PARTUUID`: on an MBR it consists of the card's signature and the number. `None`
    /// without a signature.
    pub uuid: Option<String>,
    /// True if it is marked to be started from.
    pub bootable: bool,
}

/// A table with partitions at other places, or for another card.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Relaid {
    /// The changes; empty if the table is unchanged.
    pub edits: Vec<(ByteOffset, Vec<u8>)>,
    /// The numbers of empty containers of logical partitions that have no room and are left out.
    pub left_out: Vec<u32>,
}

/// The type of a partition according to the table. The number is kept even if it is unknown.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum PartitionKind {
    /// The type byte of a master boot record.
    Mbr(u8),
    /// The type GUID of a GUID partition table.
    Gpt(uuid::Uuid),
}

impl PartitionKind {
    /// A few words for people; `None` for a kind that has no common name.
    #[must_use]
    pub fn words(self) -> Option<&'static str> {
        match self {
            Self::Mbr(byte) => mbr::type_words(byte),
            Self::Gpt(guid) => gpt::type_words(guid),
        }
    }
}

impl fmt::Display for PartitionKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (self.words(), self) {
            (Some(words), _) => f.write_str(words),
            (None, Self::Mbr(byte)) => write!(f, "type {byte:#04x}"),
            (None, Self::Gpt(guid)) => write!(f, "type {guid}"),
        }
    }
}

impl Table {
    /// The partitions in the order of their numbers, without the extended one that only wraps the
    /// logical ones.
    #[must_use]
    pub fn partitions(&self) -> Vec<Partition> {
        match self {
            Self::Mbr(mbr) => mbr.partitions(),
            Self::Gpt(gpt) => gpt.partitions(),
        }
    }

    /// The unit in which the table counts.
    #[must_use]
    pub fn sector_size(&self) -> SectorSize {
        match self {
            Self::Mbr(mbr) => mbr.sector_size(),
            Self::Gpt(gpt) => gpt.sector_size(),
        }
    }

    /// The same table with some partitions, each by its number, at new places, on a card of `size`
    /// bytes.
    ///
    /// # Errors
    /// [`crate::Class::Unsupported`] and [`crate::Class::NoRoom`] when the format has no way to say
    /// that.
    pub fn with_spans(&self, spans: &[(u32, Span)], size: ByteLen) -> Result<Relaid> {
        match self {
            Self::Mbr(mbr) => mbr.with_spans(spans, size),
            Self::Gpt(gpt) => {
                let edits = gpt.with_spans(spans)?.on_card_of(size)?;
                Ok(Relaid { edits, left_out: Vec::new() })
            }
        }
    }

    /// The same table with new ids, made of `fresh` ones, on a card of `size` bytes: the changes.
    ///
    /// # Errors
    /// As [`Table::with_spans`].
    pub fn with_ids(
        &self,
        size: ByteLen,
        fresh: &mut dyn FnMut() -> uuid::Uuid,
    ) -> Result<Vec<(ByteOffset, Vec<u8>)>> {
        match self {
            // 0 would mean no signature.
            Self::Mbr(_) => Ok(Mbr::with_signature(fresh().as_fields().0.max(1))),
            Self::Gpt(gpt) => {
                let disk = fresh();
                let parts: Vec<_> =
                    gpt.entries().iter().map(|part| (part.number, fresh())).collect();
                let mut edits = gpt.with_guids(disk, &parts)?.on_card_of(size)?;
                if gpt.is_hybrid() {
                    edits.extend(Mbr::with_signature(fresh().as_fields().0.max(1)));
                }
                Ok(edits)
            }
        }
    }

    /// How much of a card's end the table takes for a copy of itself.
    #[must_use]
    pub fn backup_len(&self) -> ByteLen {
        match self {
            Self::Mbr(_) => ByteLen::ZERO,
            Self::Gpt(gpt) => gpt.backup_len(),
        }
    }

    /// Problems of the table; empty if it is intact.
    #[must_use]
    pub fn findings(&self) -> &[TableFinding] {
        match self {
            Self::Mbr(mbr) => mbr.findings(),
            Self::Gpt(gpt) => gpt.findings(),
        }
    }

    /// "MBR" or "GPT".
    #[must_use]
    pub fn name(&self) -> &'static str {
        match self {
            Self::Mbr(_) => "MBR",
            Self::Gpt(_) => "GPT",
        }
    }

    /// The unique id of the table: the MBR's signature or the GPT's disk GUID. Systems build `PARTUUID`s from it.
    #[must_use]
    pub fn id(&self) -> String {
        match self {
            Self::Mbr(mbr) => format!("{:08x}", mbr.signature()),
            Self::Gpt(gpt) => gpt.disk_guid().to_string(),
        }
    }
}

/// Reads the table that `store` carries; `None` when it carries none.
///
/// A GPT is looked for in sectors of the store's own size first, then of 512 and of 4096 bytes,
/// since an image does not know on which card it was made.
///
/// # Errors
/// When the store cannot be read. A damaged table is not an error: see [`Table::findings`].
pub fn read(store: &dyn ReadAt) -> Result<Option<Table>> {
    let own = store.sector_size();
    let mut sizes = vec![own];
    sizes.extend([SectorSize::B512, SectorSize::B4096].into_iter().filter(|size| *size != own));
    for sector in sizes {
        if let Some(gpt) = Gpt::read(store, sector)? {
            return Ok(Some(Table::Gpt(gpt)));
        }
    }
    Ok(Mbr::read(store, own)?.map(Table::Mbr))
}
