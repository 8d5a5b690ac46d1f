//! The command line.

mod files;
mod shelf;

use crate::{complete, exit};
use clap::{
    ArgAction, Args, Parser, Subcommand, ValueEnum,
    builder::{PossibleValue, PossibleValuesParser, TypedValueParser},
};
pub(crate) use files::{
    CarryArgs, ChangeArgs, DiffArgs, FilesArgs, FilesCommand, FolderArgs, GetArgs, GiveArgs,
    ListArgs, PutArgs, RemoveArgs, RenameArgs,
};
use imbrik_core::{image::Pack, transfer::OnDamage, units::ByteLen};
pub(crate) use shelf::{
    ShelfAddArgs, ShelfArgs, ShelfCheckArgs, ShelfCommand, ShelfImageArgs, ShelfKeepArgs,
    ShelfMakeArgs, ShelfNightlyArgs, ShelfOnlyArgs, ShelfThinArgs,
};
use std::{path::PathBuf, str::FromStr, time::Duration};

/// Save, check and restore the cards of single-board computers
#[derive(Debug, Parser)]
#[command(
    name = "imbrik",
    version,
    after_help = exit::TABLE,
    disable_help_flag = true,
    disable_version_flag = true,
    max_term_width = 100,
    subcommand_help_heading = "Commands",
)]
pub(crate) struct Cli {
    #[command(subcommand)]
    pub(crate) command: Option<Command>,
    #[command(flatten)]
    pub(crate) global: Global,
    /// Print the version
    #[arg(short = 'V', long, action = ArgAction::Version, help_heading = COMMON, display_order = 910)]
    version: Option<bool>,
}

/// The headings of options, in the order in which they are shown.
const READ: &str = "What to read";
const WRITE: &str = "What to write";
const SIZES: &str = "Another size";
const IDENTITY: &str = "The copy's identity";
const SAFETY: &str = "Safety";
const COMMON: &str = "Everywhere";

/// Options that every command takes, the last ones of each help.
#[derive(Clone, Debug, Args)]
pub(crate) struct Global {
    /// Print JSON, an object a line, instead of text
    #[arg(long, global = true, help_heading = COMMON, display_order = 900)]
    pub(crate) json: bool,
    /// Also use the simulated cards in this folder, as rack:SLOT
    #[arg(long, global = true, value_name = "DIR", help_heading = COMMON, display_order = 901)]
    pub(crate) rack: Option<PathBuf>,
    /// Append to this file what is decided, read again, written and refused
    #[arg(long, global = true, value_name = "FILE", help_heading = COMMON, display_order = 904)]
    pub(crate) log: Option<PathBuf>,
    /// Print this help
    #[arg(short, long, global = true, action = ArgAction::HelpShort, help_heading = COMMON,
          display_order = 909)]
    help: Option<bool>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Show which card is which
    #[command(after_help = "Examples:
  imbrik cards            what is plugged in
  imbrik cards --watch    put a card in, and see which one it is")]
    Cards(CardsArgs),
    /// Show what is on a card or in an image
    #[command(after_help = "Examples:
  imbrik show /dev/sdb
  imbrik show hive-07.img.zst --map hive-07.png")]
    Show(ShowArgs),
    /// Save a card as an image
    #[command(after_help = "Examples:
  imbrik save                                  the only card, under a proposed name
  imbrik save /dev/sdb cards/ --note \"before the update\"
  imbrik save /dev/sdb hive-07.img.zst --fit   as small as its files allow
  imbrik save --live / /mnt/cards              this machine, while it runs")]
    Save(SaveArgs),
    /// Check that images are whole, and are what a card holds
    #[command(after_help = "Examples:
  imbrik check hive-07.img.zst
  imbrik check cards/*.img.zst
  imbrik check hive-07.img.zst --against /dev/sdb
  imbrik check system.img.xz --expect SHA256SUMS")]
    Check(CheckArgs),
    /// Write an image to one card or to many
    #[command(after_help = "Examples:
  imbrik restore hive-07.img.zst /dev/sdb --plan    only look
  imbrik restore hive-07.img.zst /dev/sdb
  imbrik restore hive.img.zst /dev/sdb /dev/sdc --as-new hive-‹n:02›")]
    Restore(RestoreArgs),
    /// Copy a card to other cards of any size, in one pass
    #[command(after_help = "Examples:
  imbrik clone /dev/sdb /dev/sdc                  a spare for the same board
  imbrik clone /dev/sdb /dev/sdc --as-new hive-11 a card for another board
  imbrik clone /dev/sdb --swap                    with one reader
  imbrik clone --live / /dev/sdb                  this machine, while it runs")]
    Clone(CloneArgs),
    /// Make an image for a card of another size
    #[command(after_help = "Examples:
  imbrik fit hive-07.img.zst                  as small as its files allow
  imbrik fit hive-07.img.zst --to \"64 card\"   for any card sold as 64 GB
  imbrik fit hive-07.img.zst --for /dev/sdb")]
    Fit(FitArgs),
    /// Read missing data of an image again from its card, and add them
    #[command(after_help = "Examples:
  imbrik mend hive-07.img.zst /dev/sdb
  imbrik mend hive-07.img.zst /dev/sdb --patience 2h")]
    Mend(MendArgs),
    /// Find out whether a card holds what it claims, and how fast it is
    #[command(after_help = "Examples:
  imbrik weigh /dev/sdb                  harms nothing on it
  imbrik weigh /dev/sdb --map card.png
  imbrik weigh /dev/sdb --erase --full   a new card, to its last byte")]
    Weigh(WeighArgs),
    /// Put an image into another container
    #[command(after_help = "Examples:
  imbrik repack hive-07.img.zst hive-07.img.xz
  imbrik repack download.zip:system.img system.img.zst")]
    Repack(RepackArgs),
    /// Look at single files of a card or an image, get them out, and put others in
    #[command(after_help = "Examples:
  imbrik files list hive-07.img.zst                       its volumes from the top
  imbrik files list hive-07.img.zst rootfs:/etc
  imbrik files get hive-07.img.zst 2:/srv/brood out       into the folder out
  imbrik files diff hive-07.img.zst /dev/sdb              what changed since
  imbrik files put hive-07.img.zst wifi.conf 2:/etc       into the image

A path is PART:/PATH: the partition's number or label, then the path in it.")]
    Files(FilesArgs),
    /// Keep images over time: each stores only changes, and old ones are removed by rules
    Shelf(ShelfArgs),
    /// Run the full example on simulated cards
    #[command(after_help = "Example:
  imbrik demo             in the folder imbrik-demo")]
    Demo(DemoArgs),
    /// Print what a shell needs to complete commands, options and cards
    #[command(after_help = "Example:
  imbrik completions bash >> ~/.bashrc")]
    Completions(CompletionsArgs),
    /// Write the manual and the completions into a folder, for a package
    #[command(hide = true)]
    Pages(PagesArgs),
}

#[derive(Debug, Args)]
pub(crate) struct CompletionsArgs {
    /// The shell
    pub(crate) shell: clap_complete::Shell,
}

#[derive(Debug, Args)]
pub(crate) struct PagesArgs {
    /// The folder, such as usr
    pub(crate) dir: PathBuf,
}

impl Command {
    /// The name on the command line.
    pub(crate) fn name(&self) -> &'static str {
        match self {
            Self::Cards(_) => "cards",
            Self::Show(_) => "show",
            Self::Save(_) => "save",
            Self::Check(_) => "check",
            Self::Restore(_) => "restore",
            Self::Clone(_) => "clone",
            Self::Fit(_) => "fit",
            Self::Mend(_) => "mend",
            Self::Weigh(_) => "weigh",
            Self::Repack(_) => "repack",
            Self::Files(FilesArgs { what: FilesCommand::List(_) }) => "files list",
            Self::Files(FilesArgs { what: FilesCommand::Get(_) }) => "files get",
            Self::Files(FilesArgs { what: FilesCommand::Diff(_) }) => "files diff",
            Self::Files(FilesArgs { what: FilesCommand::Put(_) }) => "files put",
            Self::Files(FilesArgs { what: FilesCommand::Carry(_) }) => "files carry",
            Self::Files(FilesArgs { what: FilesCommand::Remove(_) }) => "files remove",
            Self::Files(FilesArgs { what: FilesCommand::Rename(_) }) => "files rename",
            Self::Files(FilesArgs { what: FilesCommand::Folder(_) }) => "files folder",
            Self::Shelf(_) => "shelf",
            Self::Demo(_) => "demo",
            Self::Completions(_) => "completions",
            Self::Pages(_) => "pages",
        }
    }
}

/// Escapes a help text: braces around a character would be taken for a line break during layout, so that other
/// characters replace them.
pub(crate) fn with_places(text: &str) -> String {
    text.replace('‹', "{").replace('›', "}")
}

#[derive(Debug, Args)]
pub(crate) struct CardsArgs {
    /// Wait until a card is put in, and show just that one
    #[arg(long)]
    pub(crate) watch: bool,
}

#[derive(Debug, Args)]
pub(crate) struct ShowArgs {
    /// The card, or an image; - for an image from standard input
    #[arg(add = complete::cards_and_files())]
    pub(crate) what: PathBuf,
    /// Instead, what one would not give away: passwords, keys, histories, mail
    #[arg(long, help_heading = READ, conflicts_with = "map")]
    pub(crate) private: bool,
    /// Also draw it as a picture: .svg or .png
    #[arg(long, value_name = "FILE", help_heading = WRITE)]
    pub(crate) map: Option<PathBuf>,
    /// Replace a picture of the same name
    #[arg(long, requires = "map", help_heading = SAFETY)]
    pub(crate) replace: bool,
}

#[derive(Debug, Default, Args)]
pub(crate) struct SaveArgs {
    /// The card: a device path, an id from `imbrik cards`, or rack:SLOT. May be left out when only
    /// one is plugged in
    #[arg(add = complete::cards())]
    pub(crate) card: Option<PathBuf>,
    /// The image to make, a folder for it, or - for standard output. Left out: a proposed name in
    /// this folder
    pub(crate) image: Option<PathBuf>,
    /// Save only this partition, by number or label
    #[arg(long, value_name = "PART", add = complete::parts(), help_heading = READ)]
    pub(crate) only: Option<String>,
    /// Read and keep every sector, also those that no volume has in use
    #[arg(long, help_heading = READ)]
    pub(crate) exact: bool,
    /// Unmount the card first, when it is mounted
    #[arg(long, help_heading = READ)]
    pub(crate) unmount: bool,
    /// Save a card in use, such as that of this machine (CARD can be / or another folder): its filesystems are frozen
    /// for a short time
    #[arg(long, conflicts_with_all = ["only", "exact", "unmount", "also", "resume", "wait", "patience", "strict"],
          help_heading = READ)]
    pub(crate) live: bool,
    /// With --live, the longest freeze; the default is 5s
    #[arg(long, value_name = "TIME", requires = "live", help_heading = READ)]
    pub(crate) freeze_limit: Option<Patience>,
    #[command(flatten)]
    pub(crate) damage: DamageArgs,
    /// Resume an unfinished image, if it is of this card
    #[arg(long, help_heading = WRITE)]
    pub(crate) resume: bool,
    /// Reuse what has not changed since this earlier image of the card; files with unchanged times, sizes and places
    /// are not read
    #[arg(long, value_name = "IMAGE", help_heading = READ)]
    pub(crate) reuse: Option<PathBuf>,
    /// With --reuse, and onto a shelf, read all of the card, and take over only what is found to be the same
    #[arg(long, help_heading = READ)]
    pub(crate) reread: bool,
    /// A note about the image, such as "before the update"
    #[arg(long, value_name = "TEXT", help_heading = WRITE)]
    pub(crate) note: Option<String>,
    /// In the same read, also write a card for the same board, or a second image
    #[arg(long, value_name = "CARD|IMAGE", conflicts_with = "only", help_heading = WRITE,
          add = complete::cards_and_files())]
    pub(crate) also: Option<PathBuf>,
    /// Make the last volume (ext, FAT, exFAT, swap) as small as it goes, so that the image fits
    /// smaller cards
    #[arg(long, conflicts_with = "exact", help_heading = SIZES)]
    pub(crate) fit: bool,
    /// With --fit, leave so much room in it, such as 500MB
    #[arg(long, value_name = "SIZE", requires = "fit", help_heading = SIZES)]
    pub(crate) room: Option<Size>,
    #[command(flatten)]
    pub(crate) packing: Packing,
    #[command(flatten)]
    pub(crate) pulled: PulledArgs,
    /// Show what would be saved, and stop
    #[arg(long, help_heading = COMMON, display_order = 903)]
    pub(crate) plan: bool,
    /// Do not ask before the card named by --also is overwritten
    #[arg(long, requires = "also", help_heading = COMMON, display_order = 902)]
    pub(crate) yes: bool,
    /// True if the image goes onto a shelf, which must still be there when it is begun.
    #[arg(skip)]
    pub(crate) onto_shelf: bool,
}

/// How to handle unreadable sectors of a card.
#[derive(Clone, Copy, Debug, Default, Args)]
pub(crate) struct DamageArgs {
    /// How long places that cannot be read are tried again, such as 90s, 30min or 2h; otherwise 15min
    #[arg(long, value_name = "TIME", help_heading = READ)]
    pub(crate) patience: Option<Patience>,
    /// End at the first place that cannot be read, instead of leaving it out
    #[arg(long, conflicts_with = "patience", help_heading = READ)]
    pub(crate) strict: bool,
}

/// How to handle a card that is removed during the run.
#[derive(Clone, Copy, Debug, Default, Args)]
pub(crate) struct PulledArgs {
    /// When the card is pulled out, wait for it, in this reader or another, and go on: 10min, or TIME
    #[arg(long, value_name = "TIME", num_args = 0..=1, require_equals = true,
          default_missing_value = "10min", help_heading = SAFETY)]
    pub(crate) wait: Option<Patience>,
}

impl DamageArgs {
    pub(crate) fn on_damage(self) -> OnDamage {
        match (self.strict, self.patience) {
            (true, _) => OnDamage::Stop,
            (false, Some(patience)) => OnDamage::TryFor(patience.0),
            (false, None) => OnDamage::default(),
        }
    }
}

/// How an image is to be written.
#[derive(Debug, Default, Args)]
pub(crate) struct Packing {
    /// The container; otherwise the image's name decides
    #[arg(long, value_parser = pack(), value_name = "KIND", help_heading = WRITE)]
    pub(crate) pack: Option<Pack>,
    /// Level, from fast to small
    #[arg(long, help = levels(), help_heading = WRITE)]
    pub(crate) level: Option<i32>,
    /// Checksum file to put beside the image; may be given several times
    #[arg(long, value_name = "HASH", value_delimiter = ',', value_parser = HASHES,
          help_heading = WRITE)]
    pub(crate) sum: Vec<String>,
    /// Replace an image of the same name
    #[arg(long, help_heading = SAFETY)]
    pub(crate) replace: bool,
    /// Do not read the image back
    #[arg(long, help_heading = SAFETY)]
    pub(crate) no_check: bool,
}

const HASHES: [&str; 5] = ["sha256", "sha512", "sha1", "md5", "blake3"];

/// The levels of every container that is written.
fn levels() -> String {
    let told = Pack::all().filter_map(|pack| {
        let levels = pack.levels()?;
        Some(format!("{} {} to {}", pack.word(), levels.start(), levels.end()))
    });
    format!("Level, from fast to small: {}", told.collect::<Vec<_>>().join(", "))
}

/// Takes the word of a container that is written.
fn pack() -> impl TypedValueParser<Value = Pack> {
    let words = Pack::all().map(|pack| PossibleValue::new(pack.word()).help(pack.about()));
    PossibleValuesParser::new(words)
        .map(|word| Pack::all().find(|pack| pack.word() == word).unwrap_or(Pack::usual()))
}

#[derive(Debug, Args)]
pub(crate) struct RepackArgs {
    /// The image, in any container that is read; - for standard input
    pub(crate) image: PathBuf,
    /// The image to make, a folder for it, or - for standard output
    pub(crate) out: PathBuf,
    #[command(flatten)]
    pub(crate) packing: Packing,
}

#[derive(Debug, Args)]
pub(crate) struct CheckArgs {
    /// The images; - for standard input
    #[arg(required = true, value_name = "IMAGE")]
    pub(crate) images: Vec<PathBuf>,
    /// Also compare it with this card, or with another image
    #[arg(long, value_name = "CARD|IMAGE", help_heading = READ,
          add = complete::cards_and_files())]
    pub(crate) against: Option<PathBuf>,
    /// Compare the image, packed or unpacked, with this hash (md5, sha1, sha256, sha512 or blake3),
    /// a line "HASH  NAME", or a file of such lines
    #[arg(long, value_name = "HASH|FILE", help_heading = READ)]
    pub(crate) expect: Option<String>,
    /// Put a checksum file beside an image that has none
    #[arg(long, value_name = "HASH", num_args = 0..=1, require_equals = true,
          default_missing_value = "sha256", value_parser = HASHES, help_heading = WRITE)]
    pub(crate) sum: Option<String>,
}

/// Which volumes get another size on a card of another size.
#[derive(Clone, Debug, Default, Args)]
pub(crate) struct SizeArgs {
    /// Let the last volume grow to the end of a bigger card, also when it did not reach the end of
    /// its own
    #[arg(long, help_heading = SIZES)]
    pub(crate) fill: bool,
    /// Keep the size of every volume: neither fill a bigger card nor shrink for a smaller one
    #[arg(long, conflicts_with_all = ["fill", "give_to", "take_from"], help_heading = SIZES)]
    pub(crate) keep_size: bool,
    #[command(flatten)]
    pub(crate) shares: Shares,
}

/// Which partitions give or get room.
#[derive(Clone, Debug, Default, Args)]
pub(crate) struct Shares {
    /// On a bigger card, let this partition grow instead of the last, by number or label
    #[arg(long, value_name = "PART", add = complete::parts(), help_heading = SIZES)]
    pub(crate) give_to: Option<String>,
    /// On a smaller card, let only these partitions shrink, in this order, by number or label
    #[arg(long, value_name = "PART", add = complete::parts(), value_delimiter = ',', help_heading = SIZES)]
    pub(crate) take_from: Vec<String>,
    /// Give an ext volume another size although there are faults in its folders, links or
    /// attributes: they are listed and kept; which blocks are whose must be sound
    #[arg(long, help_heading = SIZES)]
    pub(crate) as_found: bool,
}

/// The identity of a copy.
#[derive(Clone, Debug, Default, Args)]
pub(crate) struct IdentityArgs {
    /// For another board: --ids fresh --keys fresh --host NAME in one word
    #[arg(long, value_name = "NAME", value_delimiter = ',', help_heading = IDENTITY,
          conflicts_with_all = ["ids", "host", "keys"])]
    pub(crate) as_new: Vec<String>,
    /// Set the host name; hive-‹n› counts up (hive-‹n:02› with two digits), and a list names one
    /// card each
    #[arg(long, value_name = "NAME", value_delimiter = ',', help_heading = IDENTITY)]
    pub(crate) host: Vec<String>,
    /// With which number ‹n› begins; otherwise with 1
    #[arg(long, value_name = "NUMBER", help_heading = IDENTITY)]
    pub(crate) first: Option<usize>,
    /// New ids for the table and every volume, so that both can be used on one machine; what refers
    /// to them follows
    #[arg(long, value_enum, value_name = "fresh", help_heading = IDENTITY)]
    pub(crate) ids: Option<Fresh>,
    /// A new Ed25519 SSH host key instead of the host keys that are there, and an empty machine id
    #[arg(long, value_enum, value_name = "fresh", help_heading = IDENTITY)]
    pub(crate) keys: Option<Fresh>,
    /// Put a small file in, with ‹n› and ‹host› filled in, in its path, too: FILE=PART:/PATH; may be
    /// given several times
    #[arg(long, value_name = "FILE=PART:/PATH", help_heading = IDENTITY)]
    pub(crate) set: Vec<String>,
    /// Add a file, or a folder with its content, with ‹n› and ‹host› in both paths: FILE=PART:/PATH; can be given
    /// several times
    #[arg(long, value_name = "FILE|FOLDER=PART:/PATH", help_heading = IDENTITY)]
    pub(crate) put: Vec<String>,
    /// Leave a file out, or a folder with all in it; may be given several times
    #[arg(long, value_name = "PART:/PATH", help_heading = IDENTITY)]
    pub(crate) drop: Vec<String>,
    /// Leave out the private data that `show --private` lists; with =strict, files that may be private, too
    #[arg(
        long,
        value_name = "strict",
        num_args = 0..=1,
        require_equals = true,
        default_missing_value = "known",
        help_heading = IDENTITY
    )]
    pub(crate) leave_private: Option<LeavePrivate>,
    /// With --leave-private, copy volumes that can't be searched for private data unchanged
    #[arg(long, requires = "leave_private", help_heading = IDENTITY)]
    pub(crate) keep_uninspected: bool,
}

/// Which private data are left out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum LeavePrivate {
    /// Certainly private data.
    #[value(hide = true)]
    Known,
    /// Possibly private data as well.
    Strict,
}

/// The only thing that can be asked of ids and keys.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Fresh {
    /// Made anew.
    Fresh,
}

/// How cards are to be written.
#[derive(Clone, Debug, Default, Args)]
pub(crate) struct WriteArgs {
    /// Read the card, and write only what differs
    #[arg(long, conflicts_with = "wipe", help_heading = WRITE)]
    pub(crate) differing: bool,
    /// Also write zeros over what no volume has in use
    #[arg(long, help_heading = WRITE)]
    pub(crate) wipe: bool,
    /// Unmount the cards first, when they are mounted
    #[arg(long, help_heading = WRITE)]
    pub(crate) unmount: bool,
    #[command(flatten)]
    pub(crate) shape: SizeArgs,
    #[command(flatten)]
    pub(crate) identity: IdentityArgs,
    #[command(flatten)]
    pub(crate) pulled: PulledArgs,
    /// Continue with the others when one of several cards is too small or may not be written
    #[arg(long, help_heading = SAFETY)]
    pub(crate) skip_failed: bool,
    /// Neither check an image beforehand nor read the cards back
    #[arg(long, help_heading = SAFETY)]
    pub(crate) no_check: bool,
    /// Permit writing to a fixed disk (never to the one the system runs from)
    #[arg(long, help_heading = SAFETY)]
    pub(crate) allow_fixed: bool,
    /// Do not ask: the cards are overwritten
    #[arg(long, help_heading = COMMON, display_order = 902)]
    pub(crate) yes: bool,
    /// Show the plan and stop
    #[arg(long, help_heading = COMMON, display_order = 903)]
    pub(crate) plan: bool,
    /// How to handle unreadable sectors of the source: set by the command.
    #[arg(skip)]
    pub(crate) damage: OnDamage,
}

#[derive(Debug, Args)]
pub(crate) struct RestoreArgs {
    /// The image; - for standard input
    pub(crate) image: PathBuf,
    /// The cards: device paths, ids from `imbrik cards`, or rack:SLOT
    #[arg(required = true, value_name = "CARD", add = complete::cards())]
    pub(crate) cards: Vec<PathBuf>,
    /// The image proper starts at this byte of the file
    #[arg(long, value_name = "BYTE", conflicts_with_all = ["fill", "give_to"],
          help_heading = READ)]
    pub(crate) starts_at: Option<u64>,
    /// Write the image although nothing in it was recognised
    #[arg(long, conflicts_with_all = ["fill", "give_to"], help_heading = READ)]
    pub(crate) as_is: bool,
    /// Write the image although it is damaged: tiles that are damaged become zeros, and are named
    #[arg(long, conflicts_with = "starts_at", help_heading = READ)]
    pub(crate) damaged: bool,
    /// Write the image into this partition of the card, by number or label
    #[arg(long, value_name = "PART", add = complete::parts(), conflicts_with_all = ["fill", "give_to"],
          help_heading = WRITE)]
    pub(crate) into: Option<String>,
    #[command(flatten)]
    pub(crate) write: WriteArgs,
}

#[derive(Debug, Args)]
pub(crate) struct CloneArgs {
    /// The card to read: a device path, an id from `imbrik cards`, or rack:SLOT
    #[arg(add = complete::cards())]
    pub(crate) source: PathBuf,
    /// The cards to write
    #[arg(value_name = "CARD", required_unless_present = "swap", conflicts_with = "swap",
          add = complete::cards())]
    pub(crate) cards: Vec<PathBuf>,
    /// With one reader only: read the card, then ask for the new one in the same reader
    #[arg(long, help_heading = READ)]
    pub(crate) swap: bool,
    /// Clone a card that is in use, such as that of this machine (the source may be / or another folder), onto
    /// one that is as large or larger
    #[arg(long, conflicts_with_all = ["swap", "patience", "strict", "wait", "skip_failed"], help_heading = READ)]
    pub(crate) live: bool,
    /// With --live, the longest freeze; the default is 5s
    #[arg(long, value_name = "TIME", requires = "live", help_heading = READ)]
    pub(crate) freeze_limit: Option<Patience>,
    #[command(flatten)]
    pub(crate) damage: DamageArgs,
    #[command(flatten)]
    pub(crate) write: WriteArgs,
}

#[derive(Debug, Args)]
pub(crate) struct MendArgs {
    /// The incomplete image
    pub(crate) image: PathBuf,
    /// The card that it was made of, or a copy of that card
    #[arg(add = complete::cards())]
    pub(crate) card: PathBuf,
    /// How long places that cannot be read are tried again, such as 90s, 30min or 2h; otherwise 15min
    #[arg(long, value_name = "TIME", help_heading = READ)]
    pub(crate) patience: Option<Patience>,
    /// Unmount the card first, when it is mounted
    #[arg(long, help_heading = READ)]
    pub(crate) unmount: bool,
    /// Do not read the image back
    #[arg(long, help_heading = SAFETY)]
    pub(crate) no_check: bool,
}

#[derive(Debug, Args)]
pub(crate) struct FitArgs {
    /// The image; - for standard input
    pub(crate) image: PathBuf,
    /// The image to make, a folder for it, or - for standard output. Left out: NAME-fitted beside
    /// the old one
    pub(crate) out: Option<PathBuf>,
    /// Fit a card of this size, also a bigger one: 16GB, "64 card" for any card sold as 64 GB (10 %
    /// less), or smallest
    #[arg(long, value_name = "SIZE", help_heading = SIZES)]
    pub(crate) to: Option<To>,
    /// Fit this card, which is plugged in
    #[arg(long = "for", value_name = "CARD", conflicts_with_all = ["to", "room"],
          help_heading = SIZES, add = complete::cards())]
    pub(crate) card: Option<PathBuf>,
    /// Leave so much room in the volume, such as 500MB; otherwise it becomes as small as it can
    #[arg(long, value_name = "SIZE", conflicts_with = "to", help_heading = SIZES)]
    pub(crate) room: Option<Size>,
    /// The partition to make as small as it goes, by number or label; otherwise the last that can
    #[arg(long, value_name = "PART", add = complete::parts(), conflicts_with = "card", help_heading = SIZES)]
    pub(crate) part: Option<String>,
    #[command(flatten)]
    pub(crate) shares: Shares,
    #[command(flatten)]
    pub(crate) identity: IdentityArgs,
    #[command(flatten)]
    pub(crate) packing: Packing,
    /// Show the plan and stop
    #[arg(long, help_heading = COMMON, display_order = 903)]
    pub(crate) plan: bool,
}

#[derive(Debug, Args)]
pub(crate) struct WeighArgs {
    /// The card: a device path, an id from `imbrik cards`, or rack:SLOT
    #[arg(add = complete::cards())]
    pub(crate) card: PathBuf,
    /// Fill and read back all that no volume has in use, and leave zeros there
    #[arg(long, help_heading = WRITE)]
    pub(crate) full: bool,
    /// Leave zeros in the tested space instead of restoring its content
    #[arg(long, help_heading = WRITE)]
    pub(crate) zero: bool,
    /// Overwrite anything on the card, and leave it without a table
    #[arg(long, help_heading = WRITE)]
    pub(crate) erase: bool,
    /// Also draw how fast it reads, from its first byte to its last: .svg or .png
    #[arg(long, value_name = "FILE", help_heading = WRITE)]
    pub(crate) map: Option<PathBuf>,
    /// Unmount the card first, when it is mounted
    #[arg(long, help_heading = WRITE)]
    pub(crate) unmount: bool,
    /// Replace a picture of the same name
    #[arg(long, requires = "map", help_heading = SAFETY)]
    pub(crate) replace: bool,
    /// Permit writing to a fixed disk (never to the one the system runs from)
    #[arg(long, help_heading = SAFETY)]
    pub(crate) allow_fixed: bool,
    /// Do not ask before the card is erased
    #[arg(long, requires = "erase", help_heading = COMMON, display_order = 902)]
    pub(crate) yes: bool,
}

/// A size with a unit: 16GB and 500M are powers of 1000, 8GiB of 1024, 512B are bytes. A number without a unit is
/// refused, because it is ambiguous.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Size(pub(crate) ByteLen);

impl Size {
    /// The same, without a part of a sector at the end.
    pub(crate) fn whole_sectors(self, sector: u64) -> ByteLen {
        ByteLen::new(self.0.get() - self.0.get() % sector.max(1))
    }
}

impl FromStr for Size {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let text = text.trim();
        let digits = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
        let (number, unit) = text.split_at(digits);
        let (base, power) = match unit.trim().to_ascii_lowercase().as_str() {
            "" => {
                return Err(format!(
                    "{text} has no unit: write {text}MB, {text}GB or {text}B (bytes)"
                ));
            }
            "b" | "byte" | "bytes" => (1000, 0),
            "k" | "kb" => (1000, 1),
            "m" | "mb" => (1000, 2),
            "g" | "gb" => (1000, 3),
            "t" | "tb" => (1000, 4),
            "kib" => (1024, 1),
            "mib" => (1024, 2),
            "gib" => (1024, 3),
            "tib" => (1024, 4),
            _ => {
                return Err(format!(
                    "'{unit}' is not a unit: write MB, GB or TB, or MiB, GiB or TiB"
                ));
            }
        };
        let unit = u128::pow(base, power);
        let (whole, part) = number.split_once('.').unwrap_or((number, ""));
        let wrong = || format!("'{text}' is not a size: write it like 16GB or 500MB");
        let digits =
            u32::try_from(part.len()).ok().filter(|digits| *digits <= 9).ok_or_else(wrong)?;
        let scaled = format!("{whole}{part}").parse::<u128>().map_err(|_| wrong())?;
        let bytes = scaled.checked_mul(unit).ok_or_else(wrong)? / 10u128.pow(digits);
        u64::try_from(bytes).map(|bytes| Self(ByteLen::new(bytes))).map_err(|_| wrong())
    }
}

/// A duration with a unit: 90s, 30min or 2h. A number without a unit is refused.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Patience(pub(crate) Duration);

impl FromStr for Patience {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let text = text.trim();
        let digits = text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len());
        let (number, unit) = text.split_at(digits);
        let seconds = match unit.trim().to_ascii_lowercase().as_str() {
            "s" | "sec" => 1u64,
            "m" | "min" => 60,
            "h" => 3600,
            "" if number == "0" => 0,
            "" => return Err(format!("{text} has no unit: write {text}s, {text}min or {text}h")),
            _ => return Err(format!("'{unit}' is not a unit of time: write s, min or h")),
        };
        let wrong = || format!("'{text}' is not a duration: write it like 90s, 30min or 2h");
        let all = number.parse::<u64>().ok().and_then(|number| number.checked_mul(seconds));
        Ok(Self(Duration::from_secs(all.ok_or_else(wrong)?)))
    }
}

/// To which size an image is fitted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum To {
    /// As small as its files allow.
    Smallest,
    /// A card of so many bytes.
    Size(Size),
}

impl FromStr for To {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let text = text.trim();
        if text.eq_ignore_ascii_case("smallest") {
            return Ok(Self::Smallest);
        }
        let Some(name) = text.strip_suffix("card").map(str::trim) else {
            return text.parse().map(Self::Size);
        };
        // "64 card" and "64GB card": what is sold under that name holds up to a tenth less.
        let bare = name.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.');
        let named: Size = if bare { format!("{name}GB").parse()? } else { name.parse()? };
        Ok(Self::Size(Size(ByteLen::new(named.0.get() / 10 * 9))))
    }
}

#[derive(Debug, Args)]
pub(crate) struct DemoArgs {
    /// The folder for the simulated cards and the images
    #[arg(default_value = "imbrik-demo")]
    pub(crate) dir: PathBuf,
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::CommandFactory;

    #[test]
    fn sizes_are_read_as_people_write_them() {
        let read = |text: &str| text.parse::<Size>().map(|size| size.0.get()).ok();
        assert_eq!(read("16GB"), Some(16_000_000_000));
        assert_eq!(read("1.5 gb"), Some(1_500_000_000));
        assert_eq!(read("8GiB"), Some(8 << 30));
        assert_eq!(read("512B"), Some(512));
        assert_eq!(read("0.1K"), Some(100));
        for text in
            ["", "512", "GB", "16 XB", "-1GB", "1.2.3G", "99999999999999999999TB", "1.0123456789G"]
        {
            assert_eq!(read(text), None, "{text}");
        }
    }

    #[test]
    fn size_on_the_label_is_used_for_cards() {
        let read = |text: &str| text.parse::<To>().ok();
        let size = |bytes| Some(To::Size(Size(ByteLen::new(bytes))));
        assert_eq!(read("64 card"), size(57_600_000_000));
        assert_eq!(read("128GB card"), size(115_200_000_000));
        assert_eq!(read("16GB"), size(16_000_000_000));
        assert_eq!(read("Smallest"), Some(To::Smallest));
        assert_eq!(read("card"), None);
        assert_eq!(read("large"), None);
    }

    #[test]
    fn clap_definitions_are_consistent() {
        Cli::command().debug_assert();
    }
}
