//! The arguments of `imbrik files`.

use super::{COMMON, READ, SAFETY, WRITE};
use crate::complete;
use clap::{Args, Subcommand};
use std::{ffi::OsString, path::PathBuf, str::FromStr};

#[derive(Debug, Args)]
#[command(subcommand_help_heading = "Commands", disable_help_subcommand = true)]
pub(crate) struct FilesArgs {
    #[command(subcommand)]
    pub(crate) what: FilesCommand,
}

#[derive(Debug, Subcommand)]
pub(crate) enum FilesCommand {
    /// List files and folders
    #[command(after_help = "Examples:
  imbrik files list /dev/sdb
  imbrik files list hive-07.img.zst '2:/var/log/*.log'
  imbrik files list hive-07.img.zst 2:/ --sizes     what fills the card")]
    List(ListArgs),
    /// Extract files and folders from a card or an image
    #[command(after_help = "Examples:
  imbrik files get hive-07.img.zst 2:/etc/fstab -           one file, to the screen or a pipe
  imbrik files get hive-07.img.zst 2:/srv/brood out         as the folder out, or into it
  imbrik files get hive-07.img.zst 2:/etc/fstab             to the current folder
  imbrik files get /dev/sdb 2:/home 2:/etc hive-07.tar.zst")]
    Get(GetArgs),
    /// Add files and folders to a card or an image
    #[command(after_help = "Examples:
  imbrik files put hive-07.img.zst wifi.conf 2:/etc/wifi.conf
  imbrik files put hive-07.img.zst *.wav rootfs:/srv/brood
  imbrik files put /dev/sdb overlays 1:/

A new image replaces the old one after it was verified. A card is changed directly: if that is
interrupted, a volume with a journal has the old files or the new ones; one without, such as FAT, may have
errors that fsck repairs.")]
    Put(PutArgs),
    /// Copy files and folders from one card or image to another
    #[command(after_help = "Examples:
  imbrik files carry old.img.zst 2:/home/keeper/hive new.img.zst 2:/home/keeper
  imbrik files carry hive-07.img.zst 2:/srv/brood /dev/sdb 2:/srv")]
    Carry(CarryArgs),
    /// Remove files and folders from a card or an image
    #[command(after_help = "Examples:
  imbrik files remove hive-07.img.zst '2:/var/log/*.gz'
  imbrik files remove /dev/sdb 2:/srv/brood/2025")]
    Remove(RemoveArgs),
    /// Rename or move a file or folder
    #[command(after_help = "Examples:
  imbrik files rename hive-07.img.zst 2:/etc/wifi.conf wifi.conf.old
  imbrik files rename hive-07.img.zst 2:/srv/brood 2:/home/keeper/brood")]
    Rename(RenameArgs),
    /// Create a folder, and its missing parents
    #[command(after_help = "Example:
  imbrik files folder hive-07.img.zst 2:/srv/weights/2026")]
    Folder(FolderArgs),
    /// Compare two cards or images by their files
    #[command(after_help = "Examples:
  imbrik files diff before.img.zst after.img.zst        what did the update change?
  imbrik files diff hive-07.img.zst /dev/sdb            what is not in my image?
  imbrik files diff hive-07.img.zst /dev/sdb 2:/etc --stat")]
    Diff(DiffArgs),
}

#[derive(Debug, Args)]
pub(crate) struct ListArgs {
    /// The card or image; - for standard input
    #[arg(value_name = "CARD|IMAGE", add = complete::cards_and_files())]
    pub(crate) source: PathBuf,
    /// The paths to list; the default is every volume from its root. Names can be patterns: '2:/etc/*.conf'
    #[arg(value_name = "PART:/PATH", add = complete::part_paths())]
    pub(crate) paths: Vec<OsString>,
    /// List subfolders as well
    #[arg(long, help_heading = READ, conflicts_with = "sizes")]
    pub(crate) recursive: bool,
    /// List the space that each folder uses, with its subfolders, the largest first
    #[arg(long, help_heading = READ)]
    pub(crate) sizes: bool,
}

#[derive(Debug, Args)]
#[command(override_usage = "imbrik files get [OPTIONS] <CARD|IMAGE> <PART:/PATH>... [DEST]")]
pub(crate) struct GetArgs {
    /// The card or image
    #[arg(value_name = "CARD|IMAGE", add = complete::cards_and_files())]
    pub(crate) source: PathBuf,
    /// The paths to extract, then the destination: a folder, a name for a single file or folder, a .tar, .tar.zst or
    /// .tar.gz; or -: a single file unchanged, anything else as a tar stream. The default is the current folder
    #[arg(required = true, num_args = 1.., value_names = ["PART:/PATH", "DEST"], add = complete::part_paths())]
    pub(crate) paths: Vec<OsString>,
    /// Replace existing files
    #[arg(long, help_heading = SAFETY)]
    pub(crate) replace: bool,
}

#[derive(Debug, Args)]
#[command(override_usage = "imbrik files put [OPTIONS] <CARD|IMAGE> <FILE|FOLDER>... <PART:/PATH>")]
pub(crate) struct PutArgs {
    /// The card or image
    #[arg(value_name = "CARD|IMAGE", add = complete::cards_and_files())]
    pub(crate) target: PathBuf,
    /// The files and folders to add, then the destination: a folder, or the name of a single file or folder. New files
    /// get the owner of their folder
    #[arg(required = true, num_args = 2.., value_names = ["FILE|FOLDER", "PART:/PATH"])]
    pub(crate) paths: Vec<OsString>,
    #[command(flatten)]
    pub(crate) give: GiveArgs,
    #[command(flatten)]
    pub(crate) change: ChangeArgs,
}

#[derive(Debug, Args)]
pub(crate) struct CarryArgs {
    /// The card or image to copy from
    #[arg(value_name = "OLD", add = complete::cards_and_files())]
    pub(crate) old: PathBuf,
    /// The path to copy
    #[arg(value_name = "PART:/PATH", add = complete::part_paths())]
    pub(crate) from: OsString,
    /// The card or image to copy to
    #[arg(value_name = "NEW", add = complete::cards_and_files())]
    pub(crate) new: PathBuf,
    /// The destination: a folder, or the new name. Owners, modes, times and links are kept
    #[arg(value_name = "PART:/PATH", add = complete::part_paths())]
    pub(crate) to: OsString,
    #[command(flatten)]
    pub(crate) give: GiveArgs,
    #[command(flatten)]
    pub(crate) change: ChangeArgs,
}

#[derive(Debug, Args)]
pub(crate) struct RemoveArgs {
    /// The card or image
    #[arg(value_name = "CARD|IMAGE", add = complete::cards_and_files())]
    pub(crate) target: PathBuf,
    /// The paths to remove; names can be patterns, and a folder is removed with its content
    #[arg(required = true, value_name = "PART:/PATH", add = complete::part_paths())]
    pub(crate) paths: Vec<OsString>,
    #[command(flatten)]
    pub(crate) change: ChangeArgs,
}

#[derive(Debug, Args)]
pub(crate) struct RenameArgs {
    /// The card or image
    #[arg(value_name = "CARD|IMAGE", add = complete::cards_and_files())]
    pub(crate) target: PathBuf,
    /// The file or folder to rename
    #[arg(value_name = "PART:/PATH", add = complete::part_paths())]
    pub(crate) from: OsString,
    /// The new name in the same folder, a path, or another folder
    #[arg(value_name = "NEW")]
    pub(crate) to: OsString,
    #[command(flatten)]
    pub(crate) change: ChangeArgs,
}

#[derive(Debug, Args)]
pub(crate) struct FolderArgs {
    /// The card or image
    #[arg(value_name = "CARD|IMAGE", add = complete::cards_and_files())]
    pub(crate) target: PathBuf,
    /// The folder
    #[arg(required = true, value_name = "PART:/PATH", add = complete::part_paths())]
    pub(crate) paths: Vec<OsString>,
    #[command(flatten)]
    pub(crate) give: GiveArgs,
    #[command(flatten)]
    pub(crate) change: ChangeArgs,
}

/// The owner and mode of added files.
#[derive(Debug, Args)]
pub(crate) struct GiveArgs {
    /// The owner and group, as names of the card or image or as numbers: keeper:audio, 1000:1000, or keeper alone
    #[arg(long, value_name = "OWNER:GROUP", help_heading = WRITE)]
    pub(crate) owner: Option<Owner>,
    /// The mode of files: 644
    #[arg(long, value_name = "MODE", value_parser = mode, help_heading = WRITE)]
    pub(crate) mode: Option<u16>,
}

/// How the files of a card or an image are changed.
#[derive(Debug, Args)]
pub(crate) struct ChangeArgs {
    /// Enlarge the image if its volume has not enough free space
    #[arg(long, help_heading = WRITE)]
    pub(crate) grow: bool,
    /// Don't read the image back
    #[arg(long, help_heading = SAFETY)]
    pub(crate) no_check: bool,
    /// Unmount the card first if it is mounted
    #[arg(long, help_heading = WRITE)]
    pub(crate) unmount: bool,
    /// Permit writing to a fixed disk (never to the one the system runs from)
    #[arg(long, help_heading = SAFETY)]
    pub(crate) allow_fixed: bool,
    /// Don't ask before a card is changed
    #[arg(long, help_heading = COMMON, display_order = 902)]
    pub(crate) yes: bool,
}

/// An owner and a group, by their names or numbers. Without a group, it is that of the owner.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Owner {
    pub(crate) user: String,
    pub(crate) group: Option<String>,
}

impl FromStr for Owner {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let (user, group) = match text.split_once(':') {
            Some((user, group)) => (user, Some(group)),
            None => (text, None),
        };
        if user.is_empty() || group.is_some_and(|group| group.is_empty() || group.contains(':')) {
            return Err(format!(
                "'{text}' is not an owner: write it like keeper:audio or 1000:1000"
            ));
        }
        Ok(Self { user: user.to_owned(), group: group.map(str::to_owned) })
    }
}

/// A mode, in octal.
fn mode(text: &str) -> Result<u16, String> {
    let mode = u16::from_str_radix(text, 8).ok().filter(|mode| *mode <= 0o7777);
    mode.ok_or_else(|| format!("{text} is not a mode: write it like 644"))
}

#[derive(Debug, Args)]
pub(crate) struct DiffArgs {
    /// The earlier state: a card or an image
    #[arg(value_name = "BEFORE", add = complete::cards_and_files())]
    pub(crate) before: PathBuf,
    /// The later state: a card or an image
    #[arg(value_name = "AFTER", add = complete::cards_and_files())]
    pub(crate) after: PathBuf,
    /// Compare only this folder or file
    #[arg(value_name = "PART:/PATH", add = complete::part_paths())]
    pub(crate) path: Option<OsString>,
    /// Print only counts, by folder
    #[arg(long, help_heading = READ)]
    pub(crate) stat: bool,
}
