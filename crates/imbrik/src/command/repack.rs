//! `imbrik repack`: an image in another container.

use crate::{
    args::RepackArgs,
    exit::Exit,
    failure::{Explain, Outcome},
    packing::{self, Destination},
    pipe,
    render::{count, json, size, time},
    session::Session,
};
use imbrik_core::{
    image::{Image, Pack, tile_count},
    operation::RepackPlan,
    progress::Watch,
    store::ReadAt,
    transfer::Saved,
};
use jiff::Timestamp;
use std::time::{Duration, Instant};

const UNTOUCHED: &str = "Nothing was written.";

pub(crate) fn run(session: &Session, args: &RepackArgs) -> Outcome<Exit> {
    let started = Instant::now();
    let options = packing::options(session, &args.packing, Some(&args.out))?;
    let to = match pipe::is_pipe(&args.out) {
        true => Destination::pipe(session)?,
        false => {
            let stem = packing::stem_of(&args.image);
            Destination::file(session, Some(&args.out), &stem, &args.packing, options.pack)?
        }
    };
    let image = session
        .open_image(&args.image)
        .state(UNTOUCHED)
        .next("Run `imbrik check` for details, or try another copy of the image.")?;
    for finding in image.findings() {
        session.out.warn(&format!("{finding}."));
    }
    let plan = RepackPlan::new(&image, packing::MADE_BY, Timestamp::now()).state(UNTOUCHED)?;
    to.judge_room(session, &plan.view, &options)?;
    let steps = if options.check && !to.is_pipe() { 2 } else { 1 };
    let progress = session.progress(steps);
    let cancel = &session.environment.interrupt.cancel;
    let watch = Watch { observer: &progress, cancel };
    // A requested level applies to every tile.
    let saved = plan.run(to.output()?, &options, args.packing.level.is_some(), watch);
    let saved = saved.map_err(|error| packing::failed(error, &image, &to))?;
    packing::tell_of(session, &saved);
    drop(progress);
    summary(session, &image, &to, &saved, options.pack, started.elapsed());
    Ok(packing::exit(&saved))
}

fn summary(
    session: &Session,
    image: &Image,
    to: &Destination,
    saved: &Saved,
    pack: Pack,
    took: Duration,
) {
    let out = &session.out;
    let card = image.content().size();
    let tiles = tile_count(card);
    let next = to.next(out, "imbrik check", "");
    if out.is_json() {
        let more = json::Repacked {
            from: json::path(image.path()),
            from_container: image.container().to_string(),
            from_bytes: image.file().size().get(),
            card_size: card.get(),
            made: to.made(saved, took, next),
            tiles,
            frames_reused: saved.reused.tiles(),
            compared_with_digests: image.manifest().is_some(),
        };
        out.line(&json::object("repack", "done", more).to_string());
        return;
    }
    out.line("");
    out.line(&format!("Image     {}", to.title()));
    out.line(&format!(
        "Size      {}; it was {} as {}",
        size::both(saved.image_len),
        size::short(image.file().size()),
        image.container()
    ));
    let proof = match image.manifest() {
        Some(_) => "each tile compared with its digest",
        None => "the image had no digests to compare with; the new one has them",
    };
    out.line(&format!(
        "Content   a card of {}, unchanged: {}, {proof}",
        size::short(card),
        count(tiles, "tile")
    ));
    if saved.reused.tiles() > 0 {
        out.line(&format!("Frames    {} copied unchanged", count(saved.reused.tiles(), "frame")));
    }
    out.line(&format!("Time      {}", time::span(took)));
    for sum in &saved.sums {
        out.line(&format!("{:<9} {}", sum.kind.to_string(), sum.hex));
    }
    if !pack.holds_manifest() {
        to.tell_what_belongs_to_it(out, pack);
    }
    if !to.is_pipe() {
        out.next(&next);
    }
}
