//! `imbrik show --private`: what one would not give away.

use crate::{
    exit::Exit,
    failure::Outcome,
    opened::Opened,
    render::{count, files::name, json, table},
    session::Session,
};
use imbrik_core::{
    files::Tree,
    layout::{Private, Remedy, Survey, private_in},
    store::ReadAt,
};
use std::{sync::Arc, time::Instant};

/// What is found is not all that there may be.
const ONLY_KNOWN: &str = "Only well-known places and forms were looked at: other private things may be \
                          there. With --leave-private, restore, clone and fit make copies \
                          without these.";

pub(super) fn run(
    session: &Session,
    what: &Opened,
    store: &Arc<dyn ReadAt>,
    survey: &Survey,
    started: Instant,
) -> Outcome<Exit> {
    let out = &session.out;
    let mut all = Vec::new();
    let mut not_looked = Vec::new();
    for part in &survey.parts {
        let Some(tree) = Tree::open(store, part)? else {
            if part.volume.is_some() {
                not_looked.push(part.full_title());
            }
            continue;
        };
        let found = private_in(&*tree.files()?)?;
        all.push((part.number, tree.title().to_owned(), found));
    }
    if out.is_json() {
        let found = all.iter().flat_map(|(part, _, found)| {
            found.iter().map(|one| json::PrivateFile {
                partition: *part,
                path: format!("/{}", String::from_utf8_lossy(&one.path)),
                why: one.kind.to_string(),
                by: one.by.clone(),
                in_a_copy: remedy(one),
            })
        });
        let more = json::PrivateShown {
            source: what.name(),
            private: found.collect(),
            not_looked_into: not_looked,
            seconds: started.elapsed().as_secs_f64(),
        };
        out.line(&json::object("show", "private", more).to_string());
        return Ok(Exit::Done);
    }
    for (_, title, found) in &all {
        match found.len() {
            0 => out.line(&format!("{title}: nothing private was found")),
            some => out.line(&format!("{title}: {}", count(some as u64, "private file"))),
        }
        let rows = found.iter().map(|one| {
            let why = format!("{}, {}", one.kind, one.by);
            vec![format!("/{}", name(&one.path)), why, remedy(one).to_owned()]
        });
        table::rows(rows, &[]).iter().for_each(|line| out.line(line));
    }
    for title in &not_looked {
        out.line(&format!("{title}: its files were not looked into"));
    }
    out.line("");
    out.line(ONLY_KNOWN);
    Ok(Exit::Done)
}

/// What becomes of it in a copy without it.
fn remedy(one: &Private) -> &'static str {
    match one.remedy {
        Remedy::Drop => "left out",
        _ => "blanked",
    }
}
