//! The command line.

mod files;
mod shelf;
mod values;

use crate::{complete, exit};
use clap::{
    ArgAction, Args, Parser, Subcommand, ValueEnum,
    builder::{PossibleValue, PossibleValuesParser, TypedValueParser},
};
pub(crate) use files::{
    CarryArgs, ChangeArgs, DiffArgs, FilesArgs, FilesCommand, FolderArgs, GetArgs, GiveArgs,
    ListArgs, Owner, PutArgs, RemoveArgs, RenameArgs,
};
use imbrik_core::{image::Pack, transfer::OnDamage};
pub(crate) use shelf::{
    ShelfAddArgs, ShelfArgs, ShelfCheckArgs, ShelfCommand, ShelfImageArgs, ShelfKeepArgs,
    ShelfMakeArgs, ShelfNightlyArgs, ShelfOnlyArgs, ShelfRemoveArgs, ShelfThinArgs,
};
use std::path::PathBuf;
pub(crate) use values::{CardSize, Patience, Size};

/// Save, verify and restore the cards of single-board computers
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
const READ: &str = "Input";
const WRITE: &str = "Output";
const SIZES: &str = "Resizing";
const IDENTITY: &str = "Identity";
const SAFETY: &str = "Safety";
const COMMON: &str = "Global options";

/// Options of all commands, at the end of each help.
#[derive(Clone, Debug, Args)]
pub(crate) struct Global {
    /// Print JSON, one object per line, instead of text
    #[arg(long, global = true, help_heading = COMMON, display_order = 900)]
    pub(crate) json: bool,
    /// Also use the simulated cards in this folder, as rack:SLOT
    #[arg(long, global = true, value_name = "DIR", help_heading = COMMON, display_order = 901)]
    pub(crate) rack: Option<PathBuf>,
    /// Print all details of plans and results
    #[arg(short, long, global = true, help_heading = COMMON, display_order = 905)]
    pub(crate) verbose: bool,
    /// Append decisions, retries, writes and refusals to this file
    #[arg(long, global = true, value_name = "FILE", help_heading = COMMON, display_order = 904)]
    pub(crate) log: Option<PathBuf>,
    /// Print this help
    #[arg(short, long, global = true, action = ArgAction::HelpShort, help_heading = COMMON,
          display_order = 909)]
    help: Option<bool>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// List cards and their partitions
    #[command(after_help = "Examples:
  imbrik cards            all connected cards
  imbrik cards --watch    insert a card and see its name")]
    Cards(CardsArgs),
    /// Show the content of a card or an image
    #[command(after_help = "Examples:
  imbrik show /dev/sdb
  imbrik show hive-07.img.zst --map hive-07.png")]
    Show(ShowArgs),
    /// Save a card as an image
    #[command(after_help = "Examples:
  imbrik save                                  the only card, under a proposed name
  imbrik save /dev/sdb cards/ --note \"before the update\"
  imbrik save /dev/sdb hive-07.img.zst --fit   for smaller cards
  imbrik save --live / /mnt/cards              this machine, while it runs")]
    Save(SaveArgs),
    /// Verify images, or compare them with a card
    #[command(after_help = "Examples:
  imbrik check hive-07.img.zst
  imbrik check cards/                        all images in a folder
  imbrik check hive-07.img.zst --against /dev/sdb
  imbrik check system.img.xz --expect SHA256SUMS")]
    Check(CheckArgs),
    /// Write an image to one or more cards
    #[command(after_help = "Examples:
  imbrik restore hive-07.img.zst /dev/sdb --plan    show the plan only
  imbrik restore hive-07.img.zst /dev/sdb
  imbrik restore hive.img.zst /dev/sdb /dev/sdc --as-new hive-‹n:02›")]
    Restore(RestoreArgs),
    /// Copy a card to other cards of any size, in one pass
    #[command(after_help = "Examples:
  imbrik clone /dev/sdb /dev/sdc                  a copy for the same board
  imbrik clone /dev/sdb /dev/sdc --as-new hive-11 a card for another board
  imbrik clone /dev/sdb --swap                    with one reader
  imbrik clone --live / /dev/sdb                  this machine, while it runs")]
    Clone(CloneArgs),
    /// Resize an image for cards of another size
    #[command(after_help = "Examples:
  imbrik fit hive-07.img.zst                  for smaller cards, with some free space
  imbrik fit hive-07.img.zst --to \"64 card\"   for any card sold as 64 GB
  imbrik fit hive-07.img.zst --for /dev/sdb")]
    Fit(FitArgs),
    /// Add missing data to an image by reading its card again
    #[command(after_help = "Examples:
  imbrik mend hive-07.img.zst /dev/sdb
  imbrik mend hive-07.img.zst /dev/sdb --patience 2h")]
    Mend(MendArgs),
    /// Measure the real capacity and the speed of a card
    #[command(after_help = "Examples:
  imbrik weigh /dev/sdb                  keeps all data
  imbrik weigh /dev/sdb --map card.png
  imbrik weigh /dev/sdb --erase --full   test all of a new card")]
    Weigh(WeighArgs),
    /// Overwrite all of a card with zeros
    #[command(after_help = "Examples:
  imbrik wipe /dev/sdb --plan    show what is on it, and stop
  imbrik wipe /dev/sdb

A card may keep copies of old data in places that no program can reach. If it held secrets, destroy it.")]
    Wipe(WipeArgs),
    /// Convert an image to another container
    #[command(after_help = "Examples:
  imbrik repack hive-07.img.zst hive-07.img.xz
  imbrik repack download.zip:system.img system.img.zst")]
    Repack(RepackArgs),
    /// List, extract, add and change single files of a card or an image
    #[command(after_help = "Examples:
  imbrik files list hive-07.img.zst                       its volumes
  imbrik files list hive-07.img.zst rootfs:/etc
  imbrik files get hive-07.img.zst 2:/srv/brood out       to the folder out
  imbrik files diff hive-07.img.zst /dev/sdb              changes since then
  imbrik files put hive-07.img.zst wifi.conf 2:/etc       add it to the image

A path is PART:/PATH: the partition's number or label, then the path in it.")]
    Files(FilesArgs),
    /// Keep images over time: each stores only changes, and rules remove old ones
    Shelf(ShelfArgs),
    /// Run the full example on simulated cards
    #[command(after_help = "Example:
  imbrik demo             in the folder imbrik-demo")]
    Demo(DemoArgs),
    /// Print shell completions for commands, options and cards
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
            Self::Wipe(_) => "wipe",
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
    /// Wait until a card is inserted, and show only that one
    #[arg(long)]
    pub(crate) watch: bool,
}

#[derive(Debug, Args)]
pub(crate) struct ShowArgs {
    /// The card, or an image; - for an image from standard input
    #[arg(add = complete::cards_and_files())]
    pub(crate) what: PathBuf,
    /// List private data instead: passwords, keys, histories, mail
    #[arg(long, help_heading = READ, conflicts_with = "map")]
    pub(crate) private: bool,
    /// Also show what would change on each connected card
    #[arg(long, help_heading = READ, conflicts_with = "private")]
    pub(crate) cards: bool,
    /// Also draw a map to a file: .svg or .png
    #[arg(long, value_name = "FILE", help_heading = WRITE)]
    pub(crate) map: Option<PathBuf>,
    /// Replace an existing picture
    #[arg(long, requires = "map", help_heading = SAFETY)]
    pub(crate) replace: bool,
}

#[derive(Debug, Default, Args)]
pub(crate) struct SaveArgs {
    /// The card: a device path, an id from `imbrik cards`, or rack:SLOT. The default is the only connected card
    #[arg(add = complete::cards())]
    pub(crate) card: Option<PathBuf>,
    /// The image to write, a folder for it, or - for standard output. The default is a proposed name in this folder
    pub(crate) image: Option<PathBuf>,
    /// Save only this partition, by number or label
    #[arg(long, value_name = "PART", add = complete::parts(), help_heading = READ)]
    pub(crate) only: Option<String>,
    /// Read and store every sector, including free space
    #[arg(long, help_heading = READ)]
    pub(crate) exact: bool,
    /// Unmount the card first if it is mounted
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
    /// With --reuse, or onto a shelf, read all of the card, and reuse only data that are found to be identical
    #[arg(long, help_heading = READ)]
    pub(crate) reread: bool,
    /// A note about the image, such as "before the update"
    #[arg(long, value_name = "TEXT", help_heading = WRITE)]
    pub(crate) note: Option<String>,
    /// In the same read, also write a card for the same board, or a second image
    #[arg(long, value_name = "CARD|IMAGE", conflicts_with = "only", help_heading = WRITE,
          add = complete::cards_and_files())]
    pub(crate) also: Option<PathBuf>,
    /// Shrink the last volume (ext, FAT, exFAT, swap), so that the image fits smaller cards
    #[arg(long, conflicts_with = "exact", help_heading = SIZES)]
    pub(crate) fit: bool,
    /// With --fit, this much free space in it, such as 500MB; 0B for none. The default is 128MB or more, but at most
    /// half of the present free space
    #[arg(long, value_name = "SIZE", requires = "fit", help_heading = SIZES)]
    pub(crate) room: Option<Size>,
    #[command(flatten)]
    pub(crate) packing: Packing,
    #[command(flatten)]
    pub(crate) pulled: PulledArgs,
    /// Show what would be saved, and stop
    #[arg(long, help_heading = COMMON, display_order = 903)]
    pub(crate) plan: bool,
    /// Don't ask before the card named by --also is overwritten
    #[arg(long, requires = "also", help_heading = COMMON, display_order = 902)]
    pub(crate) yes: bool,
    /// True if the image goes onto a shelf, which must still exist when it is written.
    #[arg(skip)]
    pub(crate) onto_shelf: bool,
}

/// How to handle unreadable sectors of a card.
#[derive(Clone, Copy, Debug, Default, Args)]
pub(crate) struct DamageArgs {
    /// How long unreadable sectors are retried, such as 90s, 30min or 1h30m; the default is 15min
    #[arg(long, value_name = "TIME", help_heading = READ)]
    pub(crate) patience: Option<Patience>,
    /// Stop at the first unreadable sector, instead of leaving it out
    #[arg(long, conflicts_with = "patience", help_heading = READ)]
    pub(crate) strict: bool,
}

/// How to handle a card that is removed during the run.
#[derive(Clone, Copy, Debug, Default, Args)]
pub(crate) struct PulledArgs {
    /// If the card is removed, wait for it, in this reader or another, and continue; the default is 10min
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

/// How to write an image.
#[derive(Debug, Default, Args)]
pub(crate) struct Packing {
    /// The container; the default depends on the image's name
    #[arg(long, value_parser = pack(), value_name = "KIND", help_heading = WRITE)]
    pub(crate) pack: Option<Pack>,
    /// Compression level, from fast to small
    #[arg(long, help = levels(), help_heading = WRITE)]
    pub(crate) level: Option<i32>,
    /// The checksum file next to the image; can be given several times, the default is sha256
    #[arg(long, value_name = "HASH", value_delimiter = ',', value_parser = HASHES,
          help_heading = WRITE)]
    pub(crate) sum: Vec<String>,
    /// Replace an existing image
    #[arg(long, help_heading = SAFETY)]
    pub(crate) replace: bool,
    /// Don't read the image back
    #[arg(long, help_heading = SAFETY)]
    pub(crate) no_check: bool,
}

const HASHES: [&str; 5] = ["sha256", "sha512", "sha1", "md5", "blake3"];

/// The levels of all writable containers.
fn levels() -> String {
    let told = Pack::all().filter_map(|pack| {
        let levels = pack.levels()?;
        let (start, end, usual) = (levels.start(), levels.end(), pack.usual_level());
        Some(format!("{} {start} to {end} (default {usual})", pack.word()))
    });
    format!("Level, from fast to small: {}", told.collect::<Vec<_>>().join(", "))
}

/// Parses the name of a writable container.
fn pack() -> impl TypedValueParser<Value = Pack> {
    let words = Pack::all().map(|pack| PossibleValue::new(pack.word()).help(pack.about()));
    PossibleValuesParser::new(words)
        .map(|word| Pack::all().find(|pack| pack.word() == word).unwrap_or(Pack::usual()))
}

#[derive(Debug, Args)]
pub(crate) struct RepackArgs {
    /// The image, in any supported container; - for standard input
    pub(crate) image: PathBuf,
    /// The image to write, a folder for it, or - for standard output
    pub(crate) out: PathBuf,
    #[command(flatten)]
    pub(crate) packing: Packing,
}

#[derive(Debug, Args)]
pub(crate) struct CheckArgs {
    /// The images, or folders of images; - for standard input
    #[arg(required = true, value_name = "IMAGE")]
    pub(crate) images: Vec<PathBuf>,
    /// Also compare it with this card or image
    #[arg(long, value_name = "CARD|IMAGE", help_heading = READ,
          add = complete::cards_and_files())]
    pub(crate) against: Option<PathBuf>,
    /// With --against, compare only this partition of the image, by number or label
    #[arg(long, value_name = "PART", requires = "against", add = complete::parts(), help_heading = READ)]
    pub(crate) only: Option<String>,
    /// Compare the image, packed or unpacked, with this hash (md5, sha1, sha256, sha512 or blake3), a line "HASH
    /// NAME", or a file of such lines
    #[arg(long, value_name = "HASH|FILE", help_heading = READ)]
    pub(crate) expect: Option<String>,
    /// Write a checksum file next to an image that has none
    #[arg(long, value_name = "HASH", value_parser = HASHES, help_heading = WRITE)]
    pub(crate) sum: Option<String>,
}

/// How volumes are resized on a card of another size.
#[derive(Clone, Debug, Default, Args)]
pub(crate) struct SizeArgs {
    /// Grow the last volume to the end of a bigger card, even if it did not reach the end of its own card
    #[arg(long, help_heading = SIZES)]
    pub(crate) fill: bool,
    /// Keep the size of every volume: don't fill a bigger card, and don't shrink for a smaller one
    #[arg(long, conflicts_with_all = ["fill", "give_to", "take_from"], help_heading = SIZES)]
    pub(crate) keep_size: bool,
    #[command(flatten)]
    pub(crate) shares: Shares,
}

/// Which partitions shrink or grow.
#[derive(Clone, Debug, Default, Args)]
pub(crate) struct Shares {
    /// On a bigger card, grow this partition instead of the last, by number or label
    #[arg(long, value_name = "PART", add = complete::parts(), help_heading = SIZES)]
    pub(crate) give_to: Option<String>,
    /// On a smaller card, shrink only these partitions, in this order, by number or label
    #[arg(long, value_name = "PART", add = complete::parts(), value_delimiter = ',', help_heading = SIZES)]
    pub(crate) take_from: Vec<String>,
    /// Resize an ext volume despite faults in its folders, links or attributes: they are listed and kept; block
    /// ownership must be consistent
    #[arg(long, help_heading = SIZES)]
    pub(crate) as_found: bool,
}

/// The identity of a copy.
#[derive(Clone, Debug, Default, Args)]
pub(crate) struct IdentityArgs {
    /// For another board: the same as --ids fresh --keys fresh --host NAME
    #[arg(long, value_name = "NAME", value_delimiter = ',', help_heading = IDENTITY,
          conflicts_with_all = ["ids", "host", "keys"])]
    pub(crate) as_new: Vec<String>,
    /// Set the host name; hive-‹n› is numbered (hive-‹n:02› with two digits), and a list has one name per card
    #[arg(long, value_name = "NAME", value_delimiter = ',', help_heading = IDENTITY)]
    pub(crate) host: Vec<String>,
    /// The first number for ‹n›; the default is 1
    #[arg(long, value_name = "NUMBER", help_heading = IDENTITY)]
    pub(crate) first: Option<usize>,
    /// New ids for the table and every volume, so that both cards can be used on one machine; references to them are
    /// updated
    #[arg(long, value_enum, value_name = "fresh", help_heading = IDENTITY)]
    pub(crate) ids: Option<Fresh>,
    /// A new Ed25519 SSH host key instead of the present host keys, and an empty machine id
    #[arg(long, value_enum, value_name = "fresh", help_heading = IDENTITY)]
    pub(crate) keys: Option<Fresh>,
    /// Add a small file, with ‹n› and ‹host› replaced in its text and its path: FILE=PART:/PATH; can be given several
    /// times
    #[arg(long, value_name = "FILE=PART:/PATH", help_heading = IDENTITY)]
    pub(crate) set: Vec<String>,
    /// Add a file, or a folder with its content, with ‹n› and ‹host› in both paths: FILE=PART:/PATH; can be given
    /// several times
    #[arg(long, value_name = "FILE|FOLDER=PART:/PATH", help_heading = IDENTITY)]
    pub(crate) put: Vec<String>,
    /// Leave out a file, or a folder with its content; can be given several times
    #[arg(long, value_name = "PART:/PATH", help_heading = IDENTITY)]
    pub(crate) drop: Vec<String>,
    /// Leave out the private data that `show --private` lists; with =strict, also files that may be private
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

/// The only value of --ids and --keys.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Fresh {
    /// New ones are generated.
    Fresh,
}

/// How to write cards.
#[derive(Clone, Debug, Default, Args)]
pub(crate) struct WriteArgs {
    /// Read the card, and write only differences
    #[arg(long, conflicts_with = "wipe", help_heading = WRITE)]
    pub(crate) differing: bool,
    /// Also write zeros to all free space
    #[arg(long, help_heading = WRITE)]
    pub(crate) wipe: bool,
    /// Unmount the cards first if they are mounted
    #[arg(long, help_heading = WRITE)]
    pub(crate) unmount: bool,
    #[command(flatten)]
    pub(crate) shape: SizeArgs,
    #[command(flatten)]
    pub(crate) identity: IdentityArgs,
    #[command(flatten)]
    pub(crate) pulled: PulledArgs,
    /// Continue with the other cards if one of several is too small or may not be written
    #[arg(long, help_heading = SAFETY)]
    pub(crate) skip_failed: bool,
    /// Don't check the image first, and don't read the cards back
    #[arg(long, help_heading = SAFETY)]
    pub(crate) no_check: bool,
    /// Permit writing to a fixed disk (never to the one the system runs from)
    #[arg(long, help_heading = SAFETY)]
    pub(crate) allow_fixed: bool,
    /// Don't ask before the cards are overwritten
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
    /// The image starts at this byte of the file
    #[arg(long, value_name = "BYTE", conflicts_with_all = ["fill", "give_to"],
          help_heading = READ)]
    pub(crate) starts_at: Option<u64>,
    /// Write the image although its content is unknown
    #[arg(long, conflicts_with_all = ["fill", "give_to"], help_heading = READ)]
    pub(crate) as_is: bool,
    /// Write a damaged image: damaged tiles become zeros, and are listed
    #[arg(long, conflicts_with = "starts_at", help_heading = READ)]
    pub(crate) damaged: bool,
    /// Write only this partition of the image, to the partition of the card with the same number or that of --into
    #[arg(long, value_name = "PART", add = complete::parts(), conflicts_with_all = ["fill", "give_to", "starts_at", "as_is"],
          help_heading = READ)]
    pub(crate) only: Option<String>,
    /// Write the image to this partition of the card, by number or label
    #[arg(long, value_name = "PART", add = complete::parts(), conflicts_with_all = ["fill", "give_to"],
          help_heading = WRITE)]
    pub(crate) into: Option<String>,
    #[command(flatten)]
    pub(crate) write: WriteArgs,
}

impl RestoreArgs {
    /// The same for a card instead of an image, unless an option needs an image.
    pub(crate) fn as_clone(&self) -> Option<CloneArgs> {
        let is_of_an_image = self.starts_at.is_some()
            || self.as_is
            || self.damaged
            || self.only.is_some()
            || self.into.is_some();
        (!is_of_an_image).then(|| CloneArgs {
            source: self.image.clone(),
            cards: self.cards.clone(),
            swap: false,
            live: false,
            freeze_limit: None,
            damage: DamageArgs::default(),
            write: self.write.clone(),
        })
    }
}

impl CloneArgs {
    /// The same for an image instead of a card, unless an option needs a card.
    pub(crate) fn as_restore(&self) -> Option<RestoreArgs> {
        let DamageArgs { patience, strict } = self.damage;
        let is_of_a_card = self.swap || self.live || patience.is_some() || strict;
        (!is_of_a_card).then(|| RestoreArgs {
            image: self.source.clone(),
            cards: self.cards.clone(),
            starts_at: None,
            as_is: false,
            damaged: false,
            only: None,
            into: None,
            write: self.write.clone(),
        })
    }
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
    /// With a single reader: read the card, then ask for the new one in the same reader
    #[arg(long, help_heading = READ)]
    pub(crate) swap: bool,
    /// Clone a card in use, such as that of this machine (the source can be / or another folder), to one of the same
    /// size or larger
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
    /// The card of the image, or a copy of that card
    #[arg(add = complete::cards())]
    pub(crate) card: PathBuf,
    /// How long unreadable sectors are retried, such as 90s, 30min or 1h30m; the default is 15min
    #[arg(long, value_name = "TIME", help_heading = READ)]
    pub(crate) patience: Option<Patience>,
    /// Unmount the card first if it is mounted
    #[arg(long, help_heading = READ)]
    pub(crate) unmount: bool,
    /// Don't read the image back
    #[arg(long, help_heading = SAFETY)]
    pub(crate) no_check: bool,
}

#[derive(Debug, Args)]
pub(crate) struct FitArgs {
    /// The image; - for standard input
    pub(crate) image: PathBuf,
    /// The image to write, a folder for it, or - for standard output. The default is NAME-fitted next to the old one
    pub(crate) out: Option<PathBuf>,
    /// Fit a card of this size, which may be bigger: 16GB, or "64 card" for any card sold as 64 GB (10 % less)
    #[arg(long, value_name = "SIZE", help_heading = SIZES)]
    pub(crate) to: Option<CardSize>,
    /// Fit this connected card
    #[arg(long = "for", value_name = "CARD", conflicts_with = "to", help_heading = SIZES, add = complete::cards())]
    pub(crate) card: Option<PathBuf>,
    /// As small as possible, without free space: for storing, or for a restore that fills a bigger card
    #[arg(long, conflicts_with_all = ["to", "card", "room"], help_heading = SIZES)]
    pub(crate) smallest: bool,
    /// This much free space in the volume, such as 500MB; the default is 128MB or more, but at most half of the
    /// present free space. With --to or --for, the minimum
    #[arg(long, value_name = "SIZE", help_heading = SIZES)]
    pub(crate) room: Option<Size>,
    /// The partition to shrink, by number or label; the default is the last possible one
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
    /// Write and read back all free space, and leave zeros there
    #[arg(long, help_heading = WRITE)]
    pub(crate) full: bool,
    /// Leave zeros in the tested space instead of restoring its content
    #[arg(long, help_heading = WRITE)]
    pub(crate) zero: bool,
    /// Overwrite everything on the card, and leave it without a partition table
    #[arg(long, help_heading = WRITE)]
    pub(crate) erase: bool,
    /// Also draw the read rates over the whole card to a file: .svg or .png
    #[arg(long, value_name = "FILE", help_heading = WRITE)]
    pub(crate) map: Option<PathBuf>,
    /// Unmount the card first if it is mounted
    #[arg(long, help_heading = WRITE)]
    pub(crate) unmount: bool,
    /// Replace an existing picture
    #[arg(long, requires = "map", help_heading = SAFETY)]
    pub(crate) replace: bool,
    /// Permit writing to a fixed disk (never to the one the system runs from)
    #[arg(long, help_heading = SAFETY)]
    pub(crate) allow_fixed: bool,
    /// Don't ask before the card is erased
    #[arg(long, requires = "erase", help_heading = COMMON, display_order = 902)]
    pub(crate) yes: bool,
}

#[derive(Debug, Args)]
pub(crate) struct WipeArgs {
    /// The card: a device path, an id from `imbrik cards`, or rack:SLOT
    #[arg(add = complete::cards())]
    pub(crate) card: PathBuf,
    /// Unmount the card first if it is mounted
    #[arg(long, help_heading = WRITE)]
    pub(crate) unmount: bool,
    /// Don't read the zeros back
    #[arg(long, help_heading = SAFETY)]
    pub(crate) no_check: bool,
    /// Permit writing to a fixed disk (never to the one the system runs from)
    #[arg(long, help_heading = SAFETY)]
    pub(crate) allow_fixed: bool,
    /// Don't ask before the card is overwritten
    #[arg(long, help_heading = COMMON, display_order = 902)]
    pub(crate) yes: bool,
    /// Show the plan and stop
    #[arg(long, help_heading = COMMON, display_order = 903)]
    pub(crate) plan: bool,
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
    fn clap_definitions_are_consistent() {
        Cli::command().debug_assert();
    }
}
