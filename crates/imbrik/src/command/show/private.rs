//! `imbrik show --private`: lists private data.

use crate::{
    exit::Exit,
    failure::Outcome,
    opened::Opened,
    render::{count, files::name, json, table},
    session::Session,
};
use imbrik_core::{
    files::Tree,
    layout::{FoundBy, Private, Remedy, Survey, private_in},
    store::ReadAt,
};
use std::{sync::Arc, time::Instant};

/// The limits of the search.
const COVERED: &str = "Only known places and formats of private data are searched: see \
     docs/private.md. There may be other private data. restore, clone and fit leave out certainly \
     private files with --leave-private, and also possibly private ones with --leave-private=strict.";

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
        let unread = found.unread.iter();
        not_looked.extend(unread.map(|path| format!("{}, /{}", tree.title(), name(path))));
        all.push((part.number, tree.title().to_owned(), found.private));
    }
    if out.is_json() {
        let found = all.iter().flat_map(|(part, _, found)| {
            found.iter().map(|one| json::PrivateFile {
                partition: *part,
                path: format!("/{}", String::from_utf8_lossy(&one.path)),
                why: one.kind.to_string(),
                by: one.by.to_string(),
                is_certain: one.is_certain,
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
            let possible = if one.is_certain { "" } else { "possible " };
            let why = match &one.by {
                FoundBy::Place(_) => format!("{possible}{}", one.kind),
                by => format!("{possible}{}: {by}", one.kind),
            };
            vec![format!("/{}", name(&one.path)), why, remedy(one).to_owned()]
        });
        table::rows(rows, &[]).iter().for_each(|line| out.line(line));
    }
    for title in &not_looked {
        out.line(&format!("{title}: not searched, since its files can't be read"));
    }
    out.line("");
    out.line(COVERED);
    Ok(Exit::Done)
}

/// How a copy without private data treats it.
fn remedy(one: &Private) -> &'static str {
    match &one.remedy {
        Remedy::Drop => "left out",
        Remedy::Blank(content) if content.is_empty() => "emptied",
        _ => "redacted",
    }
}
