//! What can be typed.

use crate::exit;
use clap::{Args, Parser, Subcommand, ValueEnum};
use std::path::PathBuf;

/// Save, check and restore the cards of single-board computers
#[derive(Debug, Parser)]
#[command(name = "imbrik", version, after_help = exit::TABLE, disable_help_subcommand = true)]
pub(crate) struct Cli {
    #[command(subcommand)]
    pub(crate) command: Option<Command>,
    #[command(flatten)]
    pub(crate) global: Global,
}

/// Options that every command takes.
#[derive(Clone, Debug, Args)]
pub(crate) struct Global {
    /// Print one JSON object (or a line per event) instead of text
    #[arg(long, global = true)]
    pub(crate) json: bool,
    /// Also use the stand-in cards in this folder, as rack:SLOT
    #[arg(long, global = true, value_name = "DIR")]
    pub(crate) rack: Option<PathBuf>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Show which card is which
    Cards(CardsArgs),
    /// Show what is on a card or in an image
    Show(ShowArgs),
    /// Save a card as an image
    Save(SaveArgs),
    /// Check that an image is whole, and is what a card holds
    Check(CheckArgs),
    /// Write an image to a card
    Restore(RestoreArgs),
    /// Put an image into another container
    Repack(RepackArgs),
    /// Run the full example on stand-in cards
    Demo(DemoArgs),
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
    pub(crate) what: PathBuf,
    /// Also draw it as a picture: .svg or .png
    #[arg(long, value_name = "FILE")]
    pub(crate) map: Option<PathBuf>,
    /// Replace a picture of the same name
    #[arg(long, requires = "map")]
    pub(crate) replace: bool,
}

#[derive(Debug, Args)]
pub(crate) struct SaveArgs {
    /// The card: a device path, an id from `imbrik cards`, or rack:SLOT. May be left out when only
    /// one is plugged in
    pub(crate) card: Option<PathBuf>,
    /// The image to make, a folder for it, or - for standard output. Left out: a proposed name in
    /// this folder
    pub(crate) image: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) packing: Packing,
    /// Read and keep every sector, also those that no volume has in use
    #[arg(long)]
    pub(crate) exact: bool,
    /// Save only this partition, by number or label
    #[arg(long, value_name = "PART")]
    pub(crate) only: Option<String>,
    /// What to remember about the image, such as "before the update"
    #[arg(long, value_name = "TEXT")]
    pub(crate) note: Option<String>,
    /// Unmount the card first, when it is mounted
    #[arg(long)]
    pub(crate) unmount: bool,
}

/// How an image is to be written.
#[derive(Debug, Args)]
pub(crate) struct Packing {
    /// The container; otherwise the image's name decides
    #[arg(long, value_enum, value_name = "KIND")]
    pub(crate) pack: Option<PackArg>,
    /// Level, from fast to small: zst 1 to 22, gz 1 to 9, xz 0 to 9
    #[arg(long)]
    pub(crate) level: Option<i32>,
    /// Checksum file to put beside the image; may be given several times
    #[arg(long, value_name = "HASH", value_delimiter = ',', value_parser = HASHES)]
    pub(crate) sum: Vec<String>,
    /// Replace an image of the same name
    #[arg(long)]
    pub(crate) replace: bool,
    /// Do not read the image back
    #[arg(long)]
    pub(crate) no_check: bool,
}

const HASHES: [&str; 5] = ["sha256", "sha512", "sha1", "md5", "blake3"];

/// The containers that can be written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum PackArg {
    /// The raw card, with holes where it holds zeros
    Raw,
    /// Zstandard, readable at any place
    Zst,
    /// gzip, readable at any place
    Gz,
    /// xz, readable at any place
    Xz,
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
    /// The image; - for standard input
    pub(crate) image: PathBuf,
    /// Also compare it with this card
    #[arg(long, value_name = "CARD")]
    pub(crate) against: Option<PathBuf>,
    /// Compare the image, packed or unpacked, with this hash (md5, sha1, sha256, sha512 or blake3)
    #[arg(long, value_name = "HASH")]
    pub(crate) expect: Option<String>,
    /// Put a checksum file beside the image when it has none
    #[arg(long, value_name = "HASH", num_args = 0..=1, require_equals = true,
          default_missing_value = "sha256", value_parser = HASHES)]
    pub(crate) sum: Option<String>,
}

#[derive(Debug, Args)]
pub(crate) struct RestoreArgs {
    /// The image; - for standard input
    pub(crate) image: PathBuf,
    /// The card: a device path, an id from `imbrik cards`, or rack:SLOT
    pub(crate) card: PathBuf,
    /// Show the plan and stop
    #[arg(long)]
    pub(crate) plan: bool,
    /// Do not ask: the card is overwritten
    #[arg(long)]
    pub(crate) yes: bool,
    /// Write the image into this partition of the card, by number or label
    #[arg(long, value_name = "PART")]
    pub(crate) into: Option<String>,
    /// Let the last volume (ext) grow to the end of a bigger card
    #[arg(long, conflicts_with_all = ["into", "as_is", "starts_at"])]
    pub(crate) fill: bool,
    /// Also write zeros over what no volume has in use
    #[arg(long)]
    pub(crate) wipe: bool,
    /// Read the card, and write only what differs
    #[arg(long, conflicts_with = "wipe")]
    pub(crate) differing: bool,
    /// Neither check the image beforehand nor read the card back
    #[arg(long)]
    pub(crate) no_check: bool,
    /// Unmount the card first, when it is mounted
    #[arg(long)]
    pub(crate) unmount: bool,
    /// Permit writing to a fixed disk (never to the one the system runs from)
    #[arg(long)]
    pub(crate) allow_fixed: bool,
    /// Write the image although nothing in it was recognised
    #[arg(long)]
    pub(crate) as_is: bool,
    /// The image proper starts at this byte of the file
    #[arg(long, value_name = "BYTE")]
    pub(crate) starts_at: Option<u64>,
}

#[derive(Debug, Args)]
pub(crate) struct DemoArgs {
    /// Where to put the stand-in cards and the images
    #[arg(default_value = "imbrik-demo")]
    pub(crate) dir: PathBuf,
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::CommandFactory;

    #[test]
    fn the_definitions_agree_with_each_other() {
        Cli::command().debug_assert();
    }
}
