//! `imbrik save`: card to image.

use crate::{
    args::{PackArg, SaveArgs},
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    render::{count, json, quoted, size, time},
    resolve,
    session::Session,
};
use imbrik_core::{
    Class,
    card::{Card, Standing, standing},
    image::{Encoding, Limit, Manifest, Pack, Place, SumKind},
    layout::{Occupancy, Plan, Survey},
    store::{Counted, Tally},
    transfer::{SaveOptions, Saved, Watch, sampled_ratio, save},
    units::{ByteLen, Span},
};
use jiff::{Timestamp, Zoned};
use serde_json::json;
use std::{
    fs,
    path::{Path, PathBuf},
    sync::Arc,
    time::{Duration, Instant},
};

const UNTOUCHED: &str = "Nothing was read or written.";

pub(crate) fn run(session: &Session, args: &SaveArgs) -> Outcome<Exit> {
    let started = Instant::now();
    let (card_name, image_name) = names(session, args);
    let card = match card_name {
        Some(name) => resolve::card(&session.fleet, name)?,
        None => resolve::only_card(&session.fleet)?,
    };
    let options = options(session, args, image_name)?;
    make_still(session, &card, args.unmount)?;
    let tally = Tally::default();
    let source = session.fleet.host_of(&card).open_source(&card).state(UNTOUCHED)?;
    let source = Arc::new(Counted::new(source, &tally));
    let survey = Survey::of(&*source).state("Nothing was written.")?;
    let image = image_path(session, image_name, options.pack, &survey, &card)?;
    judge_place(session, &image, &card)?;
    if !args.replace && image.symlink_metadata().is_ok() {
        return Err(Failure::refused(format!("{} exists already", quoted(&image)))
            .state("It was left as it is.")
            .next("Choose another name, or add --replace."));
    }
    let plan = if args.exact {
        Plan::save_exact(source)
    } else {
        let occupancy = Occupancy::of(&*source, &survey).state("Nothing was written.")?;
        for why in &occupancy.read_whole {
            session.out.warn(&format!("{why}."));
        }
        Plan::save(source, &occupancy).state("Nothing was written.")?
    };
    judge_room(session, &image, &plan, &options)?;

    let steps = if args.no_check { 1 } else { 2 };
    let progress = session.progress(steps);
    let cancel = &session.environment.interrupt.cancel;
    let watch = Watch { observer: &progress, cancel };
    if !session.out.is_json() {
        session.out.note(&format!(
            "Saving {} ({}) as {}",
            card.path.display(),
            size::both(card.size),
            quoted(&image)
        ));
    }
    let made_by = concat!("imbrik ", env!("CARGO_PKG_VERSION"));
    let mut manifest = Manifest::new(&survey, made_by, Timestamp::now());
    manifest.card_model.clone_from(&card.model);
    manifest.exact = args.exact;
    let saved = save(&plan.view, manifest, &image, &options, watch).map_err(|error| {
        let next = match error.class() {
            Class::Cancelled => "Run the same command again to start over.",
            Class::NoRoom => "Make room there, or name a folder on a larger disk.",
            Class::Mismatch => "Try another disk, and have its memory and cable checked.",
            _ => "",
        };
        Failure::from(error)
            .state(format!(
                "The card is as it was; no image {} was made.",
                quoted(image.file_name().unwrap_or_default().as_ref())
            ))
            .next(next)
    })?;
    drop(progress);
    let used = plan.view.copied_in(Span::whole(card.size));
    summary(session, &card, &image, (&saved, used), &tally, started.elapsed());
    Ok(if saved.unreadable.is_empty() { Exit::Done } else { Exit::Unreadable })
}

/// Which of the two names is the card's: with one card plugged in, a single name that is plainly
/// no card is the image's.
fn names<'a>(session: &Session, args: &'a SaveArgs) -> (Option<&'a Path>, Option<&'a Path>) {
    let (first, second) = (args.card.as_deref(), args.image.as_deref());
    match first {
        Some(name) if second.is_none() && (name.is_dir() || Pack::of_name(name).is_some()) => {
            match resolve::card(&session.fleet, name) {
                Ok(_) => (first, None),
                Err(_) if name.is_file() && !args.replace => (first, None),
                Err(_) => (None, first),
            }
        }
        _ => (first, second),
    }
}

fn options(session: &Session, args: &SaveArgs, name: Option<&Path>) -> Outcome<SaveOptions> {
    let by_name = name.filter(|name| !name.is_dir()).and_then(Pack::of_name);
    let asked = args.pack.map(|pack| match pack {
        PackArg::Raw => Pack::Raw,
        PackArg::Zst => Pack::Zst,
    });
    let extension = name.and_then(Path::extension).and_then(|ext| ext.to_str()).unwrap_or_default();
    if ["gz", "xz", "bz2", "zip", "7z"].contains(&extension) && asked.is_none() {
        return Err(Failure::usage(format!("images ending in .{extension} cannot be written yet"))
            .next("Name it .img.zst (small) or .img (raw)."));
    }
    if let (Some(asked), Some(by_name)) = (asked, by_name)
        && asked != by_name
    {
        return Err(Failure::usage(format!(
            "the image's name says {}, --pack says {}",
            by_name.extension(),
            asked.extension()
        ))
        .next("Leave --pack out, or change the name."));
    }
    let names = match (&args.sum[..], &session.config.sums) {
        ([], Some(names)) => names.clone(),
        ([], None) => vec![SumKind::Sha256.name().to_owned()],
        (names, _) => names.to_vec(),
    };
    let mut sums = Vec::new();
    for name in names {
        let kind: SumKind = name.parse()?;
        if !sums.contains(&kind) {
            sums.push(kind);
        }
    }
    Ok(SaveOptions {
        pack: asked.or(by_name).unwrap_or(Pack::Zst),
        level: args.level.or(session.config.level).unwrap_or(Encoding::LEVEL),
        sums,
        replace: args.replace,
        check: !args.no_check,
        owner: session.environment.owner,
    })
}

/// A card that something writes to while it is read gives an image of no moment at all.
fn make_still(session: &Session, card: &Card, unmount: bool) -> Outcome<()> {
    let name = card.path.display();
    match standing(card, true) {
        Standing::Mounted(mounts) => session.make_unmounted(card, &mounts, unmount),
        Standing::Refused(
            reason
            @ (imbrik_core::card::Reason::System(_) | imbrik_core::card::Reason::Held { .. }),
        ) => Err(Failure::refused(format!("{name} would change while it is read: {reason}"))
            .state(UNTOUCHED)
            .next("Shut the machine down, and save its card on another one.")),
        _ if !card.mounts().is_empty() => session.make_unmounted(card, &card.mounts(), unmount),
        _ => Ok(()),
    }
}

/// The image to make: as named, or proposed.
fn image_path(
    session: &Session,
    name: Option<&Path>,
    pack: Pack,
    survey: &Survey,
    card: &Card,
) -> Outcome<PathBuf> {
    let folder = match name {
        Some(name) if !name.is_dir() => {
            resolve::not_a_card(&session.fleet, name)?;
            if name.as_os_str().to_string_lossy().ends_with('/') {
                return Err(Failure::usage(format!("there is no folder {}", quoted(name)))
                    .state(UNTOUCHED)
                    .next("Make the folder first."));
            }
            return Ok(std::path::absolute(name).unwrap_or_else(|_| name.to_owned()));
        }
        Some(folder) => folder.to_owned(),
        None => session.config.images.clone().unwrap_or_else(|| PathBuf::from(".")),
    };
    let folder = fs::canonicalize(&folder).map_err(|error| {
        Failure::new(
            Exit::Failed,
            format!("the folder {} cannot be used: {error}", quoted(&folder)),
        )
    })?;
    let stem = proposed_stem(survey, card);
    let extension = pack.extension();
    let mut path = folder.join(format!("{stem}.{extension}"));
    let mut number = 2;
    while path.symlink_metadata().is_ok() {
        path = folder.join(format!("{stem}-{number}.{extension}"));
        number += 1;
    }
    Ok(path)
}

/// `hive-07-2026-11-23`: host, else label, else size, then the date.
fn proposed_stem(survey: &Survey, card: &Card) -> String {
    let name =
        survey.name().map_or_else(|| format!("card {}", size::short(card.size)), str::to_owned);
    let plain = |c: char| if c.is_alphanumeric() || ".-_".contains(c) { c } else { ' ' };
    let words: String = name.chars().map(plain).collect();
    let words: Vec<_> = words.split_whitespace().collect();
    let slug = words.join("-").trim_start_matches(['.', '-']).to_lowercase();
    let slug = if slug.is_empty() { "card".to_owned() } else { slug };
    format!("{slug}-{}", Zoned::now().date())
}

/// Refuses a place on the card itself, and warns of one that is gone with the power.
fn judge_place(session: &Session, image: &Path, card: &Card) -> Outcome<()> {
    if session.fleet.card_under(image) == Some(card.path.clone())
        || card.mounts().iter().any(|at| image.starts_with(at))
    {
        return Err(Failure::refused(format!("{} lies on the card itself", quoted(image)))
            .state(UNTOUCHED)
            .next("Name a folder on another disk."));
    }
    if let Some(rack) = &session.fleet.rack
        && resolve::is_same_file_as_any(image, rack)
    {
        return Err(Failure::refused(format!(
            "{} stands behind a slot of the rack",
            quoted(image)
        ))
        .state(UNTOUCHED)
        .next("Choose another name."));
    }
    Ok(())
}

/// Judges, before a long read, whether the image can fit.
fn judge_room(session: &Session, image: &Path, plan: &Plan, options: &SaveOptions) -> Outcome<()> {
    let folder = image.parent().unwrap_or(Path::new("/"));
    let place =
        Place::of(folder).state(UNTOUCHED).next("Make the folder first, or name another.")?;
    if place.in_memory {
        session.out.warn(&format!(
            "{} lives in memory: an image there is gone when the machine is switched off.",
            quoted(folder)
        ));
    }
    let whole = imbrik_core::store::ReadAt::size(&plan.view);
    if place.limit_for(whole).is_none() {
        return Ok(());
    }
    let (low, likely) = match (options.pack, place.limit_for(whole)) {
        // However many holes it has: a file is as long as it is.
        (Pack::Raw, Some(Limit::LargestFile(_))) => (1.0, 1.0),
        (pack, _) => sampled_ratio(&plan.view, pack, options.level).state(UNTOUCHED)?,
    };
    let part = |ratio: f64| ByteLen::new((whole.get() as f64 * ratio) as u64);
    let tell = |limit: Limit, len: ByteLen| match limit {
        Limit::LargestFile(largest) => format!(
            "the image would take about {}, and the filesystem at {} holds no file over {}",
            size::both(len),
            quoted(folder),
            size::both(largest)
        ),
        Limit::Free(free) => format!(
            "the image would take about {}, and {} has {} free",
            size::both(len),
            quoted(folder),
            size::both(free)
        ),
    };
    if let Some(limit) = place.limit_for(part(low)) {
        return Err(Failure::new(Exit::NoRoom, tell(limit, part(likely)))
            .state("The card is as it was; nothing was written.")
            .next("Make room there, or name a folder on a larger disk."));
    }
    if let Some(limit) = place.limit_for(part(likely)) {
        session.out.warn(&format!("it may get tight: {}.", tell(limit, part(likely))));
    }
    Ok(())
}

fn summary(
    session: &Session,
    card: &Card,
    image: &Path,
    (saved, used): (&Saved, ByteLen),
    tally: &Tally,
    took: Duration,
) {
    let out = &session.out;
    let lost: ByteLen = saved.unreadable.iter().map(|span| span.len()).sum();
    let next = format!("imbrik restore {} CARD", quoted(image));
    if out.is_json() {
        let more = json!({
            "card": card.path.to_string_lossy(),
            "card_size": card.size.get(),
            "card_bytes_read": tally.read().get(),
            "card_bytes_written": tally.written().get(),
            "used_bytes": used.get(),
            "image": image.to_string_lossy(),
            "image_bytes": saved.image_len.get(),
            "zero_bytes": saved.zeros.get(),
            "unreadable": json::spans(&saved.unreadable),
            "seconds": took.as_secs_f64(),
            "sums": json::sums(&saved.sums),
            "next": next,
        });
        out.line(&json::object("save", "done", more).to_string());
        return;
    }
    let ratio = 100.0 * saved.image_len.get() as f64 / card.size.get().max(1) as f64;
    out.line("");
    out.line(&format!("Image     {}", quoted(image)));
    out.line(&format!(
        "Size      {}, {ratio:.1} % of the card's {}",
        size::both(saved.image_len),
        size::short(card.size)
    ));
    out.line(&format!(
        "Used      {} of the card are in use, {} were read",
        size::both(used),
        size::short(tally.read())
    ));
    out.line(&format!("Time      {}", time::span(took)));
    for sum in &saved.sums {
        out.line(&format!("{:<9} {}", sum.kind.to_string(), sum.hex));
    }
    if !lost.is_zero() {
        out.line(&format!(
            "Lost      {} in {} could not be read and are zeros in the image",
            size::both(lost),
            count(saved.unreadable.len() as u64, "place")
        ));
    }
    out.line("The image is complete in itself; the checksum file beside it is for other tools.");
    out.line(&format!("Next      {next}"));
}
