//! The arguments of `imbrik shelf`.

use super::{COMMON, Patience, READ, SAFETY, WRITE};
use clap::{Args, Subcommand};
use std::{fmt, path::PathBuf, str::FromStr};

#[derive(Debug, Args)]
#[command(subcommand_help_heading = "Commands", disable_help_subcommand = true)]
pub(crate) struct ShelfArgs {
    #[command(subcommand)]
    pub(crate) what: ShelfCommand,
}

#[derive(Debug, Subcommand)]
pub(crate) enum ShelfCommand {
    /// Turn a folder into a shelf: new images in it reuse data of earlier ones
    #[command(after_help = "Example:
  imbrik shelf make /mnt/cards")]
    Make(ShelfMakeArgs),
    /// List the images on a shelf by card
    #[command(after_help = "Example:
  imbrik shelf list /mnt/cards")]
    List(ShelfOnlyArgs),
    /// Save a card onto a shelf, remove old images and check some, in one command
    #[command(after_help = "Examples:
  imbrik shelf add /mnt/cards /dev/sdb
  imbrik shelf add /mnt/cards /dev/sdb --thin --check 2
  imbrik shelf add /mnt/cards / --live --brief             from a timer, every night")]
    Add(ShelfAddArgs),
    /// Set the rules for keeping images
    #[command(after_help = "Examples:
  imbrik shelf keep /mnt/cards                                 print the rules
  imbrik shelf keep /mnt/cards '3 newest, 1 a week for 2 months, 1 a month'
  imbrik shelf keep /mnt/cards 'all for 2 weeks, 1 a month for 1 year' --due 2

The newest undamaged image of a card, the last one that was checked, and pinned images are always kept.")]
    Keep(ShelfKeepArgs),
    /// Remove the images that no rule keeps
    #[command(after_help = "Examples:
  imbrik shelf thin /mnt/cards --plan    list them only
  imbrik shelf thin /mnt/cards")]
    Thin(ShelfThinArgs),
    /// Remove one image and the files that belong to it
    #[command(after_help = "Example:
  imbrik shelf remove /mnt/cards/hive-07-2026-11-20.img.zst")]
    Remove(ShelfRemoveArgs),
    /// Check the images with the oldest checks
    #[command(after_help = "Examples:
  imbrik shelf check /mnt/cards              all of them
  imbrik shelf check /mnt/cards --oldest 2   two images each night: sixty in a month")]
    Check(ShelfCheckArgs),
    /// Report what is overdue: cards without a new image, unchecked images, damage
    #[command(after_help = "Example:
  imbrik shelf due /mnt/cards --json     for a monitor; exit code 7 if anything is overdue")]
    Due(ShelfOnlyArgs),
    /// Print or install a timer that saves this machine's card every night
    #[command(after_help = "Examples:
  imbrik shelf nightly / /mnt/cards              print a service and a timer
  imbrik shelf nightly / /mnt/cards --install
  imbrik shelf nightly / /mnt/cards --cron       a line for /etc/cron.d")]
    Nightly(ShelfNightlyArgs),
    /// Keep an image regardless of the rules
    #[command(after_help = "Example:
  imbrik shelf pin /mnt/cards/hive-07-2026-11-20.img.zst")]
    Pin(ShelfImageArgs),
    /// Apply the rules to a pinned image again
    Unpin(ShelfImageArgs),
    /// Print a short line for a sticker on the card
    Label(ShelfImageArgs),
}

#[derive(Debug, Args)]
pub(crate) struct ShelfMakeArgs {
    /// The folder, which must exist
    #[arg(value_name = "DIR")]
    pub(crate) folder: PathBuf,
}

#[derive(Debug, Args)]
pub(crate) struct ShelfOnlyArgs {
    /// The shelf; the default is the image folder in the configuration
    #[arg(value_name = "DIR")]
    pub(crate) folder: Option<PathBuf>,
}

#[derive(Debug, Args)]
pub(crate) struct ShelfAddArgs {
    /// The shelf
    #[arg(value_name = "DIR")]
    pub(crate) folder: PathBuf,
    /// The card; the default is the only connected one
    #[arg(value_name = "CARD", add = crate::complete::cards())]
    pub(crate) card: Option<PathBuf>,
    /// Read all of the card, and reuse only data that are found to be identical
    #[arg(long, help_heading = READ)]
    pub(crate) reread: bool,
    /// A note about the image
    #[arg(long, value_name = "TEXT", help_heading = WRITE)]
    pub(crate) note: Option<String>,
    /// Afterwards, remove the images that no rule keeps, without asking
    #[arg(long, help_heading = WRITE)]
    pub(crate) thin: bool,
    /// Afterwards, check this many images with the oldest checks
    #[arg(long, value_name = "NUMBER", default_value_t = 0, help_heading = SAFETY)]
    pub(crate) check: usize,
    /// Unmount the card first if it is mounted
    #[arg(long, help_heading = READ)]
    pub(crate) unmount: bool,
    /// Save a card in use, such as that of this machine (CARD can be / or another folder)
    #[arg(long, conflicts_with = "unmount", requires = "card", help_heading = READ)]
    pub(crate) live: bool,
    /// With --live, the longest freeze; the default is 5s
    #[arg(long, value_name = "TIME", requires = "live", help_heading = READ)]
    pub(crate) freeze_limit: Option<Patience>,
    /// Print one line if everything went well, and no progress
    #[arg(long, help_heading = COMMON, display_order = 903)]
    pub(crate) brief: bool,
}

#[derive(Debug, Args)]
pub(crate) struct ShelfNightlyArgs {
    /// The source: / or another folder of a card in use, or the card
    #[arg(value_name = "SOURCE")]
    pub(crate) source: PathBuf,
    /// The shelf
    #[arg(value_name = "DIR")]
    pub(crate) folder: PathBuf,
    /// The time of day in local time, such as 03:30
    #[arg(long, value_name = "HH:MM", default_value = "03:30", help_heading = WRITE)]
    pub(crate) at: TimeOfDay,
    /// The longest freeze; the default is 5s
    #[arg(long, value_name = "TIME", help_heading = READ)]
    pub(crate) freeze_limit: Option<Patience>,
    /// Print a line for cron instead of a service and a timer for systemd
    #[arg(long, conflicts_with = "install", help_heading = WRITE)]
    pub(crate) cron: bool,
    /// Install the service and the timer
    #[arg(long, help_heading = WRITE)]
    pub(crate) install: bool,
    /// The folder to install to
    #[arg(long, value_name = "FOLDER", default_value = "/etc/systemd/system", help_heading = WRITE)]
    pub(crate) units: PathBuf,
    /// Overwrite existing files with other content
    #[arg(long, requires = "install", help_heading = WRITE)]
    pub(crate) replace: bool,
}

/// A time of day.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct TimeOfDay {
    pub(crate) hour: u8,
    pub(crate) minute: u8,
}

impl FromStr for TimeOfDay {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let wrong = || format!("'{text}' is not a time of day: write it like 03:30");
        let (hour, minute) = text.split_once(':').ok_or_else(wrong)?;
        let number = |text: &str, below: u8| match text.len() {
            1 | 2 => text.parse().ok().filter(|number| *number < below).ok_or_else(wrong),
            _ => Err(wrong()),
        };
        Ok(Self { hour: number(hour, 24)?, minute: number(minute, 60)? })
    }
}

impl fmt::Display for TimeOfDay {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:02}:{:02}", self.hour, self.minute)
    }
}

#[derive(Debug, Args)]
pub(crate) struct ShelfKeepArgs {
    /// The shelf
    #[arg(value_name = "DIR")]
    pub(crate) folder: PathBuf,
    /// The rules, separated by commas: 3 newest, 1 a week for 2 months, 1 a month, all for 2 weeks
    #[arg(value_name = "RULES")]
    pub(crate) rules: Option<String>,
    /// The number of days without a new image after which a card is overdue
    #[arg(long, value_name = "DAYS", value_parser = clap::value_parser!(u32).range(1..=3650), help_heading = WRITE)]
    pub(crate) due: Option<u32>,
}

#[derive(Debug, Args)]
pub(crate) struct ShelfThinArgs {
    /// The shelf; the default is the image folder in the configuration
    #[arg(value_name = "DIR")]
    pub(crate) folder: Option<PathBuf>,
    /// Show what would be removed, and stop
    #[arg(long, help_heading = SAFETY)]
    pub(crate) plan: bool,
    /// Don't ask before images are removed
    #[arg(long, help_heading = SAFETY)]
    pub(crate) yes: bool,
}

#[derive(Debug, Args)]
pub(crate) struct ShelfRemoveArgs {
    /// The image, as a file or as CARD, CARD@DATE or CARD@pinned on the shelf in the configuration
    #[arg(value_name = "IMAGE")]
    pub(crate) image: PathBuf,
    /// Don't ask before it is removed
    #[arg(long, help_heading = SAFETY)]
    pub(crate) yes: bool,
}

#[derive(Debug, Args)]
pub(crate) struct ShelfCheckArgs {
    /// The shelf; the default is the image folder in the configuration
    #[arg(value_name = "DIR")]
    pub(crate) folder: Option<PathBuf>,
    /// Check only this many, those with the oldest checks
    #[arg(long, value_name = "NUMBER", help_heading = READ)]
    pub(crate) oldest: Option<usize>,
}

#[derive(Debug, Args)]
pub(crate) struct ShelfImageArgs {
    /// The image, as a file or as CARD, CARD@DATE or CARD@pinned on the shelf in the configuration
    #[arg(value_name = "IMAGE")]
    pub(crate) image: PathBuf,
}
