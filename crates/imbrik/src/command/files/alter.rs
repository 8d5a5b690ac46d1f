//! `imbrik files remove`, `rename` and `folder`.

use super::{
    Looked, PartPath,
    change::{Target, Told, UNTOUCHED, Wanted, plain, split, there},
    found,
    put::given,
};
use crate::{
    args::{FolderArgs, RemoveArgs, RenameArgs},
    exit::Exit,
    failure::{Failure, Outcome},
    render::{files::name, json},
    session::Session,
};
use imbrik_core::{
    files::{Tree, below, names},
    fs::{FileEdit, FileId, FileKind, FileMeta, Onward, Walked},
    units::ByteLen,
};
use std::ffi::OsString;

pub(super) fn remove(session: &Session, args: &RemoveArgs) -> Outcome<Exit> {
    let target = Target::open(session, "files remove", &args.target, &args.change)?;
    let (paths, part) = of_one_part(&args.paths)?;
    let (index, tree) = target.part(&part)?;
    let files = tree.files().looked()?;
    let mut wanted = Wanted::default();
    for path in &paths {
        for one in found(&*files, &path.path, &tree)? {
            if one.path.is_empty() {
                return Err(Failure::usage("the root folder can't be removed").state(UNTOUCHED));
            }
            let mut told = Told::new(json::FileChanged::Removed, &one.path);
            weigh(&tree, one.file, &mut told)?;
            wanted.told.push(told);
            wanted.edits.push(FileEdit::Remove { path: names(&one.path) });
        }
    }
    target.apply(index, tree.title(), wanted)
}

pub(super) fn rename(session: &Session, args: &RenameArgs) -> Outcome<Exit> {
    let target = Target::open(session, "files rename", &args.target, &args.change)?;
    let from = PartPath::of(&args.from)?;
    let (index, tree) = target.part(&from)?;
    let files = tree.files().looked()?;
    let [one] = &found(&*files, &from.path, &tree)?[..] else {
        return Err(Failure::usage("that is more than one file").state(UNTOUCHED));
    };
    let typed = PartPath::of_new(&args.to);
    if typed.part.is_some() && typed.part != from.part {
        return Err(Failure::usage("a file can only be renamed within its volume")
            .state(UNTOUCHED)
            .next("Copy it to another volume with `imbrik files carry`."));
    }
    let folder = || one.path.rsplitn(2, |byte| *byte == b'/').nth(1).unwrap_or_default();
    // A name alone is one in the same folder.
    let mut to = match typed.path.contains(&b'/') {
        true => plain(&typed.path),
        false => below(folder(), &typed.path),
    };
    if let Some(there) = there(&tree, &to)?.filter(|there| there.file != one.file)
        && files.info(there.file).looked()?.kind == FileKind::Folder
    {
        to = below(&to, one.name());
    }
    let mut told = Told::new(json::FileChanged::Renamed, &one.path);
    told.to = Some(format!("/{}", String::from_utf8_lossy(&to)));
    let mut wanted = Wanted::default();
    wanted.told.push(told);
    wanted.edits.push(FileEdit::Rename { from: names(&one.path), to: names(&to) });
    target.apply(index, tree.title(), wanted)
}

pub(super) fn folder(session: &Session, args: &FolderArgs) -> Outcome<Exit> {
    let target = Target::open(session, "files folder", &args.target, &args.change)?;
    let (paths, part) = of_one_part(&args.paths)?;
    let (index, tree) = target.part(&part)?;
    let given = given(&args.give, &tree)?;
    let mut wanted = Wanted::default();
    for path in &paths {
        let all = names(&path.path);
        if all.is_empty() {
            return Err(Failure::usage("a folder needs a name").state(UNTOUCHED));
        }
        let mut is_new = false;
        for depth in 1..=all.len() {
            let path = all.get(..depth).unwrap_or_default();
            if there(&tree, &path.join(&b'/'))?.is_some() {
                continue;
            }
            is_new = true;
            let meta = FileMeta {
                permissions: given.permissions,
                owner: given.owner,
                as_in_folder: true,
                ..FileMeta::default()
            };
            wanted.edits.push(FileEdit::Folder { path: path.to_vec(), meta });
        }
        if !is_new {
            return Err(Failure::usage(format!("{} is there already", name(&all.join(&b'/'))))
                .state(UNTOUCHED));
        }
        wanted.told.push(Told::new(json::FileChanged::Folder, &all.join(&b'/')));
    }
    target.apply(index, tree.title(), wanted)
}

/// Paths that were typed, all of them of one partition.
fn of_one_part(typed: &[OsString]) -> Outcome<(Vec<PartPath>, PartPath)> {
    let all = typed.iter().map(|path| PartPath::of(path)).collect::<Outcome<Vec<_>>>()?;
    let (last, others) = split(&all)?;
    if others.iter().any(|one| one.part != last.part) {
        return Err(Failure::usage("all of it must be in one partition")
            .state(UNTOUCHED)
            .next("Do it for one partition at a time."));
    }
    let part = PartPath { part: last.part.clone(), path: Vec::new() };
    Ok((all, part))
}

/// Counts the content of a file or folder.
fn weigh(tree: &Tree, file: FileId, told: &mut Told) -> Outcome<()> {
    let files = tree.files().looked()?;
    let mut bytes = 0u64;
    let walked = files.walk(file, &mut |walked| {
        if let Walked::Entry(one) = walked {
            match one.info.kind {
                FileKind::Folder => told.folders = told.folders.saturating_add(1),
                _ => {
                    told.files = told.files.saturating_add(1);
                    bytes = bytes.saturating_add(one.info.size);
                }
            }
        }
        Ok(Onward::Into)
    });
    walked.looked()?;
    told.bytes = ByteLen::new(bytes);
    Ok(())
}
