//! `imbrik shelf add`: what is around the save of a card onto a shelf.

use super::{check, open, thin};
use crate::{
    args::{SaveArgs, ShelfAddArgs},
    exit::Exit,
    failure::Outcome,
    session::Session,
};

/// The save that is meant; what is not mounted is noticed before a card is read.
pub(crate) fn meant(session: &Session, args: &ShelfAddArgs) -> Outcome<SaveArgs> {
    if args.brief {
        session.out.be_brief();
    }
    open(session, Some(&args.folder))?;
    Ok(SaveArgs {
        card: args.card.clone(),
        image: Some(args.folder.clone()),
        reread: args.reread,
        note: args.note.clone(),
        unmount: args.unmount,
        live: args.live,
        freeze_limit: args.freeze_limit,
        ..SaveArgs::default()
    })
}

/// Looks after the shelf once the card is saved, which ended as `saved`.
pub(crate) fn look_after(session: &Session, args: &ShelfAddArgs, saved: Exit) -> Outcome<Exit> {
    let shelf = open(session, Some(&args.folder))?;
    let mut exits = vec![saved];
    // Nothing goes after a save that is not as it should be.
    if args.thin && saved == Exit::Done {
        exits.push(thin::thin(session, &shelf, false, true)?);
    }
    if args.check > 0 {
        exits.push(check::check(session, &shelf, args.check)?);
    }
    session.out.tell_in_brief();
    Ok(exits.into_iter().find(|exit| *exit != Exit::Done).unwrap_or(Exit::Done))
}
