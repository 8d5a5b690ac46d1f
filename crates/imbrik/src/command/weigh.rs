//! `imbrik weigh`: measures the capacity and the speed of a card.

use crate::{
    args::WeighArgs,
    drawing,
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    render::{count, json, layout, quoted, rates, size, survey, time},
    resolve,
    session::Session,
};
use imbrik_core::{
    Class, Error,
    card::Card,
    operation::{Shortfall, WeighOptions, WeighPlan, WeighRefusal, Weighed},
    progress::Watch,
    units::ByteLen,
};

const UNTOUCHED: &str = "Nothing was written to the card.";
/// A system writes more, and more often, than a slower card takes.
const LEAST_RATE: u64 = 10_000_000;
const LEAST_SMALL_WRITES: u64 = 100;

pub(crate) fn run(session: &Session, args: &WeighArgs) -> Outcome<Exit> {
    let map =
        args.map.as_deref().map(|path| drawing::format(path, args.replace).map(|f| (path, f)));
    let map = map.transpose()?;
    let card = resolve::card(&session.fleet, &args.card)?;
    session.make_writable(&card, args.allow_fixed, args.unmount).state(UNTOUCHED)?;
    let host = session.fleet.host_of(&card);
    let options = WeighOptions {
        erase: args.erase,
        full: args.full,
        zero: args.zero,
        allow_fixed: args.allow_fixed,
    };
    let plan = WeighPlan::new(host, card.clone(), options).map_err(refused)?;
    let name = card.path.display();
    if args.erase {
        session.must_be_able_to_ask(args.yes).state(UNTOUCHED)?;
        let word = survey::name(Some(plan.survey()), &card);
        let question = format!(
            "Everything on {name} will be overwritten. Type its present name, {word}, to continue: "
        );
        session.confirm_by_typing(&word, &question, args.yes)?;
    }
    let free: ByteLen = plan.free.iter().map(|span| span.len()).sum();
    session.out.note(&format!(
        "Weighing {name}, which claims {}: {} {}.",
        size::both(card.size),
        size::short(free),
        match (args.erase, args.full || args.zero) {
            (true, _) => "of it can be tested",
            (false, true) => "of free space can be tested, and becomes zeros",
            (false, false) => "of free space can be tested; its content is restored afterwards",
        }
    ));
    let progress = session.progress(if args.full { 2 } else { 1 });
    let cancel = &session.environment.interrupt.cancel;
    let watch = Watch { observer: &progress, cancel };
    let weighed = plan.run(host, watch).map_err(|error| failed(error, args))?;
    drop(progress);
    if let Some((path, format)) = map {
        let (title, subtitle) = titles(&card, &weighed);
        let drawn = rates::draw(&weighed.places, card.size, &title, &subtitle, format);
        let drawn = drawn.map_err(|why| {
            Failure::new(Exit::Failed, format!("drawing the picture failed: {why}"))
        })?;
        drawing::keep(session, path, args.replace, &drawn)?;
    }
    show(session, args, &card, &weighed);
    Ok(exit_of(&weighed))
}

fn exit_of(weighed: &Weighed) -> Exit {
    match weighed.shortfall.is_none() && weighed.has_verdict() {
        true => Exit::Done,
        false => Exit::Mismatch,
    }
}

fn refused(refusal: WeighRefusal) -> Failure {
    match refusal {
        WeighRefusal::Failed(error) => Failure::from(error).state(UNTOUCHED),
        other => Failure::refused(other.to_string()).state(UNTOUCHED).next(
            "Only free space of clean volumes can be tested. To test all of the card and lose its \
             data, add --erase.",
        ),
    }
}

fn failed(error: Error, args: &WeighArgs) -> Failure {
    let state = match (args.erase, error.class()) {
        (_, Class::Refused) => UNTOUCHED,
        (true, _) => "All data on the card is lost.",
        (false, Class::Gone) => {
            "It was removed during the test: free space may contain a few test marks."
        }
        (false, _) => "Free space may have changed; nothing else was touched.",
    };
    Failure::from(error)
        .state(state)
        .next("Check that the card is still connected, and weigh it again.")
}

/// "64 GB: Sorrel card", and the subtitle.
fn titles(card: &Card, weighed: &Weighed) -> (String, String) {
    let model = card.model.as_deref().unwrap_or("card");
    let holds = match weighed.shortfall {
        None if !weighed.has_verdict() => "capacity not confirmed".to_owned(),
        None => format!("{} kept their data", count(weighed.marks, "sample")),
        Some(shortfall) => format!("it holds only {}", size::both(real(shortfall))),
    };
    let rate = |rate: Option<u64>| match rate {
        Some(rate) => format!("{}/s", size::short(ByteLen::new(rate))),
        None => "?".to_owned(),
    };
    let subtitle =
        format!("{holds}; reads {}, writes {}", rate(weighed.read_rate), rate(weighed.write_rate));
    (format!("{model}, {}", size::short(card.size)), subtitle)
}

fn real(shortfall: Shortfall) -> ByteLen {
    match shortfall {
        Shortfall::Wraps(len) => len,
        Shortfall::Ends(at) => ByteLen::new(at.get()),
        _ => ByteLen::ZERO,
    }
}

fn show(session: &Session, args: &WeighArgs, card: &Card, weighed: &Weighed) {
    let out = &session.out;
    if out.is_json() {
        out.line(&object(args, card, weighed).to_string());
        return;
    }
    let model = card.model.as_ref().map_or(String::new(), |model| format!(" · {model}"));
    out.line("");
    out.line(&format!("Card      {} · {}{model}", card.path.display(), size::both(card.size)));
    out.line(&format!("Holds     {}", holds(args, weighed)));
    let rate = |rate: u64| format!("{}/s", size::short(ByteLen::new(rate)));
    if let Some(read) = weighed.read_rate {
        let slowest = weighed.places.iter().map(|(_, rate)| *rate).min().unwrap_or(read);
        let fastest = weighed.places.iter().map(|(_, rate)| *rate).max().unwrap_or(read);
        out.line(&format!(
            "Read      {} in sequence; {} to {} at {} over the card",
            rate(read),
            rate(slowest),
            rate(fastest),
            count(weighed.places.len() as u64, "place")
        ));
        let columns = layout::width(std::io::stdout()).saturating_sub(12);
        out.line(&format!("          {}", rates::line(&weighed.places, columns)));
    }
    if let Some(write) = weighed.write_rate {
        out.line(&format!("Write     {}", rate(write)));
    }
    if let Some(small) = weighed.small_writes {
        out.line(&format!("Small     {small} synced 4 KiB writes per second"));
    }
    if let Some(meaning) = meaning(weighed) {
        out.line(&format!("Verdict   {meaning}"));
    }
    out.line(&format!(
        "Traffic   {} read, {} written",
        size::short(weighed.tally.read()),
        size::short(weighed.tally.written())
    ));
    out.line(&format!("Time      {}", time::span(weighed.took)));
    if let Some(path) = &args.map {
        let path = std::path::absolute(path).unwrap_or_else(|_| path.clone());
        out.line(&format!("Map       {}", quoted(&path)));
    }
}

fn holds(args: &WeighArgs, weighed: &Weighed) -> String {
    let real = weighed.shortfall.map(|shortfall| (shortfall, size::both(real(shortfall))));
    match real {
        Some((Shortfall::Wraps(_), real)) => {
            format!(
                "only {real}. Past that point, addresses wrap around: later writes overwrite earlier data"
            )
        }
        Some((_, real)) => {
            format!("only about {real}. Data past that point are not kept")
        }
        None if args.full && args.erase => {
            "as claimed: every byte was written and read back".to_owned()
        }
        None if !weighed.has_verdict() => format!(
            "not known: only {} % of the card could be tested, the rest is in use. To test all of it \
             and lose its data: --erase",
            weighed.tested_percent()
        ),
        None if args.full => format!(
            "as claimed: {} were written and read back, and {} spread over {} % of the card kept \
             their data",
            size::both(weighed.proved),
            count(weighed.marks, "sample"),
            weighed.tested_percent()
        ),
        None => format!(
            "as claimed: {} spread over {} % of the card kept their data; --full tests all free space",
            count(weighed.marks, "sample"),
            weighed.tested_percent()
        ),
    }
}

fn meaning(weighed: &Weighed) -> Option<&'static str> {
    if weighed.shortfall.is_some() {
        return Some("do not rely on this card: data past its real capacity are lost silently");
    }
    if !weighed.has_verdict() {
        return Some("none: too little of the card could be tested");
    }
    let (write, small) = (weighed.write_rate?, weighed.small_writes?);
    Some(match (write < LEAST_RATE, small < LEAST_SMALL_WRITES) {
        (true, _) => "too slow for a system card: a board needs 10 MB/s",
        (false, true) => "too slow for a system card: a board needs 100 small writes per second",
        (false, false) => "fast enough for a system card",
    })
}

fn object(args: &WeighArgs, card: &Card, weighed: &Weighed) -> serde_json::Value {
    let exit = exit_of(weighed);
    let pairs = weighed.places.iter().map(|(at, rate)| (at.get(), *rate));
    let more = json::Weighed {
        code: exit.code(),
        card: card.path.to_string_lossy().into_owned(),
        claimed_bytes: weighed.claimed.get(),
        real_bytes: weighed.shortfall.map(|shortfall| real(shortfall).get()),
        shortfall: weighed.shortfall.map(|shortfall| match shortfall {
            Shortfall::Wraps(_) => json::Shortfall::Wraps,
            _ => json::Shortfall::Ends,
        }),
        marks: weighed.marks,
        tested_bytes: weighed.tested.get(),
        verified_bytes: weighed.proved.get(),
        read_rate: weighed.read_rate,
        write_rate: weighed.write_rate,
        small_writes: weighed.small_writes,
        rates: pairs.map(|(at, rate)| [at, rate]).collect(),
        card_bytes_read: weighed.tally.read().get(),
        card_bytes_written: weighed.tally.written().get(),
        seconds: weighed.took.as_secs_f64(),
        map: args.map.as_deref().map(json::path),
    };
    json::object("weigh", json::result(exit), more)
}
