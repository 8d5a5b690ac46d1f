//! `imbrik files put` and `carry`: files and folders into a card or an image.

use super::{
    Looked, PartPath, Source,
    change::{Target, Told, UNTOUCHED, Wanted, plain, split, there},
    found,
};
use crate::{
    args::{CarryArgs, GiveArgs, Owner, PutArgs},
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    render::{files::name, json, quoted},
    session::Session,
};
use imbrik_core::{
    files::{Brought, Given, Owners, Tree, below, find},
    fs::{FileKind, Files},
    store::Tally,
    units::ByteLen,
};
use std::{
    os::unix::ffi::OsStrExt,
    path::{Path, PathBuf},
};

pub(super) fn put(session: &Session, args: &PutArgs) -> Outcome<Exit> {
    let (goal, names) = split(&args.paths)?;
    let goal = PartPath::of(goal)?;
    let target = Target::open(session, "files put", &args.target, &args.change)?;
    let (index, tree) = target.part(&goal)?;
    let given = given(&args.give, &tree)?;
    let mut wanted = Wanted::default();
    for path in names.iter().map(PathBuf::from) {
        let base = path.file_name().unwrap_or_default().as_bytes();
        let (to, replaced) = place(&tree, &goal.path, base, names.len())?;
        let mut brought = Brought::default();
        brought
            .from_here(&path, &to, given)
            .state(UNTOUCHED)
            .next("Check that it exists and that you may read it.")?;
        take_in(&mut wanted, brought, &to, replaced);
    }
    target.apply(index, tree.title(), wanted)
}

pub(super) fn carry(session: &Session, args: &CarryArgs) -> Outcome<Exit> {
    let (from, goal) = (PartPath::of(&args.from)?, PartPath::of(&args.to)?);
    let old = Source::open(session, &args.old, &Tally::default())?;
    let (_, old_tree) = old.part(from.part.as_deref())?;
    Source::tell_of(session, &old_tree);
    let files = old_tree.files().looked()?;
    let chosen = found(&*files, &from.path, &old_tree)?;
    let target = Target::open(session, "files carry", &args.new, &args.change)?;
    let (index, tree) = target.part(&goal)?;
    let given = given(&args.give, &tree)?;
    let mut wanted = Wanted::default();
    for one in &chosen {
        let (to, replaced) = match one.path.is_empty() {
            // The content of a volume goes into the folder itself.
            true => (plain(&goal.path), None),
            false => place(&tree, &goal.path, one.name(), chosen.len())?,
        };
        let mut brought = Brought::default();
        brought.from_volume(old_tree.volume(), &*files, one.file, &to, given).looked()?;
        take_in(&mut wanted, brought, &to, replaced);
    }
    target.apply(index, tree.title(), wanted)
}

fn take_in(wanted: &mut Wanted, brought: Brought, to: &[u8], replaced: Option<ByteLen>) {
    let told = Told {
        files: brought.files,
        folders: brought.folders,
        bytes: brought.bytes,
        replaced,
        ..Told::new(json::FileChanged::Put, to)
    };
    wanted.told.push(told);
    wanted.edits.extend(brought.edits);
    wanted.left_out.extend(brought.left_out);
}

/// The owner and mode of all added files, from the command line.
pub(super) fn given(args: &GiveArgs, tree: &Tree) -> Outcome<Given> {
    let files = tree.files().looked()?;
    let knows_owners = files.info(files.root()).looked()?.ownership.is_some();
    if !knows_owners && (args.owner.is_some() || args.mode.is_some()) {
        return Err(Failure::usage(format!("{} has no owners and modes", tree.title()))
            .state(UNTOUCHED)
            .next("Leave out --owner and --mode."));
    }
    Ok(Given {
        permissions: args.mode,
        owner: args.owner.as_ref().map(|owner| ids(owner, &*files, tree)).transpose()?,
        only_files: !knows_owners,
    })
}

/// The ids of an owner, whose names are those of the system on the same volume.
fn ids(owner: &Owner, files: &dyn Files, tree: &Tree) -> Outcome<(u32, u32)> {
    let owners = Owners::of(files);
    let unknown = |what: &str, name: &str| {
        Failure::usage(format!("{} has no {what} {name}", tree.title()))
            .state(UNTOUCHED)
            .next("Give its number, such as 1000, or add it to the system first.")
    };
    let number = |text: &str| text.parse::<u32>().ok();
    let user = owners.ids_of_user(owner.user.as_bytes());
    let user = user.or_else(|| number(&owner.user).map(|id| (id, id)));
    let (user, primary) = user.ok_or_else(|| unknown("user", &owner.user))?;
    let Some(group) = &owner.group else { return Ok((user, primary)) };
    let id = owners.id_of_group(group.as_bytes()).or_else(|| number(group));
    Ok((user, id.ok_or_else(|| unknown("group", group))?))
}

/// The path in the volume for something called `base`: in the folder `goal`, or that name itself; and the length of the
/// file that it replaces.
fn place(
    tree: &Tree,
    goal: &[u8],
    base: &[u8],
    count: usize,
) -> Outcome<(Vec<u8>, Option<ByteLen>)> {
    let files = tree.files().looked()?;
    let found = find(&*files, goal).looked()?;
    let kind = |file| -> Outcome<FileKind> { Ok(files.info(file).looked()?.kind) };
    let path = match &found[..] {
        [one] if kind(one.file)? == FileKind::Folder => below(&one.path, base),
        [one] if count == 1 => one.path.clone(),
        [] if count == 1 && !goal.ends_with(b"/") => plain(goal),
        _ => {
            let goal = name(goal);
            return Err(Failure::usage(format!("{goal} is not a folder in {}", tree.title()))
                .state(UNTOUCHED)
                .next(
                    "Name an existing folder, or create one with `imbrik files folder`; list the \
                     folders with `imbrik files list`.",
                ));
        }
    };
    if path.is_empty() || base.is_empty() {
        return Err(
            Failure::usage(format!("{} has no name", quoted(Path::new("..")))).state(UNTOUCHED)
        );
    }
    let replaced = match there(tree, &path)? {
        Some(one) if kind(one.file)? == FileKind::File => {
            Some(ByteLen::new(files.info(one.file).looked()?.size))
        }
        _ => None,
    };
    Ok((path, replaced))
}
