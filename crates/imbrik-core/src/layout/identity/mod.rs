//! A separate identity for a copy: ids, host name, keys, and edits of files.
//!
//! These are edits of a plan's view: the source is unchanged. References to an id are updated wherever files on the
//! card contain them.

mod follow;
mod hosts;
mod keys;
mod without_private;

use super::{Change, Plan, Survey, View, Warning};
use crate::table;
use follow::NewId;
use imbrik_fs::{
    DerivedVolume, EditOptions, FileEdit, FileMeta, FileTime, OpenVolume, ResizeOptions, Volume,
};
use imbrik_store::{
    ReadAt, SparseStore, Window,
    bytes::is_zero,
    error::{Class, Error, Result},
    progress::Cancel,
    read_up_to,
    units::{ByteLen, ByteOffset, Span, joined},
};
use std::{cell::OnceCell, sync::Arc};
use uuid::Uuid;
pub use without_private::{Guesses, LeavePrivate, Uninspected};

/// The size limit of files that are read, in bytes.
const MOST: usize = 1 << 20;
/// Files that contain the machine id. An empty one makes the system generate a new id.
/// The host key that a copy gets.
const HOST_KEY: &str = "etc/ssh/ssh_host_ed25519_key";
const MACHINE_IDS: [&str; 2] = ["etc/machine-id", "var/lib/dbus/machine-id"];

/// The identity of a copy.
#[derive(Clone, Debug, Default)]
pub struct Identity {
    /// True if the table and all volumes get new ids. References to them are updated.
    pub ids: bool,
    /// Its host name.
    pub host: Option<String>,
    /// True if it gets a new SSH host key instead of those of the original, and an empty machine id, so that its system
    /// generates a new one.
    pub keys: bool,
    /// How recognised private data are left out: see [`crate::layout::private_in`].
    pub leave_private: Option<LeavePrivate>,
    /// Further edits of files, in order.
    pub edits: Vec<PartEdit>,
    /// The modification time of edited files, in seconds since 1970.
    pub now: u64,
}

/// An edit of the files of a partition.
#[derive(Clone, Debug)]
pub struct PartEdit {
    /// The partition, as an index of [`Survey::parts`].
    pub part: usize,
    /// The edit.
    pub edit: FileEdit,
}

impl Identity {
    /// Returns whether nothing changes.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        !self.ids
            && self.host.is_none()
            && !self.keys
            && self.leave_private.is_none()
            && self.edits.is_empty()
    }
}

impl Plan {
    /// The plan of a copy with a separate identity. Changes, and references to an id that could not be updated, are in
    /// [`Plan::changes`].
    ///
    /// # Errors
    /// - When the source cannot be read, or stopping was requested.
    /// - [`Class::Unsupported`] and [`Class::Corrupt`] when a volume is not edited, with the reason.
    /// - [`Class::NoRoom`] when a file doesn't fit.
    /// - [`Class::Usage`] when a host name is given and no volume has one.
    pub fn with_identity(self, identity: &Identity, means: ResizeOptions<'_>) -> Result<Self> {
        if identity.is_empty() {
            return Ok(self);
        }
        let survey = Survey::of(&self.view)?;
        if let Some(why) = survey.whole_because {
            return Err(Error::unsupported(why));
        }
        let source: Arc<dyn ReadAt> = Arc::new(self.view.clone());
        let mut parts = Vec::new();
        for part in &survey.parts {
            let store: Arc<dyn ReadAt> = Arc::new(Window::new(Arc::clone(&source), part.span)?);
            parts.push(Edit {
                wrong: OnceCell::new(),
                source: Arc::clone(&store),
                title: part.full_title(),
                short: part.title(),
                span: part.span,
                volume: part.volume.clone(),
                store,
                rewritten: Vec::new(),
                is_copied_unchanged: false,
            });
        }
        let mut work = Editing {
            view: &self.view,
            survey: &survey,
            parts,
            table: Vec::new(),
            changes: Vec::new(),
            now: identity.now,
        };
        if identity.ids {
            work.new_ids(means)?;
        }
        if let Some(host) = &identity.host {
            work.set_host(host)?;
        }
        if identity.keys {
            work.new_keys(identity.host.as_deref().or(survey.host.as_deref()))?;
        }
        let mut removed = Vec::new();
        if let Some(leave) = identity.leave_private {
            removed = work.leave_private(leave, identity.keys, means.cancel)?;
        }
        for some in identity.edits.chunk_by(|one, next| one.part == next.part) {
            let part = some.first().map_or(0, |one| one.part);
            let edits: Vec<FileEdit> = some.iter().map(|one| one.edit.clone()).collect();
            work.edit(part, &edits, "as requested")?;
        }
        let mut unused = Vec::new();
        if identity.leave_private.is_some() {
            unused = work.clear_unused(&removed, means.cancel)?;
        }
        let Editing { parts, table, changes, .. } = work;
        let mut plan = self;
        for part in parts.iter().filter(|part| !part.rewritten.is_empty()) {
            part.prove(means.cancel)?;
            let spans = part.spans_on_card();
            plan.view = plan.view.with_store(&spans, &part.store, part.span.start());
        }
        for segment in unused {
            plan.view = plan.view.with(segment.span, segment.content);
        }
        for (at, bytes) in &table {
            plan.view = plan.view.with_bytes(*at, bytes);
        }
        plan.changes.extend(changes);
        Ok(plan)
    }
}

/// A partition that is edited.
struct Edit {
    title: String,
    short: String,
    span: Span,
    volume: Option<Volume>,
    /// The reason why it can't be edited, once it was examined.
    wrong: OnceCell<Option<String>>,
    /// The volume before it was edited.
    source: Arc<dyn ReadAt>,
    store: Arc<dyn ReadAt>,
    rewritten: Vec<Span>,
    /// True if it keeps its private data, because it can't be searched.
    is_copied_unchanged: bool,
}

impl Edit {
    /// The spans of the card that were edited.
    fn spans_on_card(&self) -> Vec<Span> {
        let moved = self.rewritten.iter().map(|span| {
            let start = self.span.start().saturating_add(ByteLen::new(span.start().get()));
            Span::between(start, start.saturating_add(span.len()))
        });
        joined(moved.collect())
    }

    /// The reason why it can't be edited: inconsistent volumes are left unchanged.
    fn wrong(&self) -> Result<Option<&str>> {
        if self.wrong.get().is_none() {
            let found = match &self.volume {
                Some(volume) => {
                    let source = Arc::clone(&self.source);
                    OpenVolume::known(source, volume.clone()).examine()?.usage.whole_because
                }
                None => None,
            };
            let _ = self.wrong.set(found);
        }
        Ok(self.wrong.get().and_then(Option::as_deref))
    }

    /// Checks the edited volume as thoroughly as a resized one.
    fn prove(&self, cancel: &Cancel) -> Result<()> {
        let Some(volume) = &self.volume else { return Ok(()) };
        let known = |store: &Arc<dyn ReadAt>| OpenVolume::known(Arc::clone(store), volume.clone());
        let proved = known(&self.store).check_edited(&known(&self.source), cancel);
        proved.map_err(|error| error.at(&self.title))
    }

    /// Recovers a volume that was not unmounted, as its own system does on mount. Returns whether it had a journal to
    /// replay.
    fn replay_journal(&mut self, volume: &Volume) -> Result<bool> {
        let mut was_replayed = false;
        for _ in 0..MOST_SETTLING {
            let open = OpenVolume::known(Arc::clone(&self.store), volume.clone());
            let Some((recovered, _)) = open.recovery()? else { break };
            self.take(recovered);
            was_replayed = true;
        }
        if was_replayed {
            self.source = Arc::clone(&self.store);
        }
        Ok(was_replayed)
    }

    fn take(&mut self, recovered: DerivedVolume) {
        self.store = recovered.store;
        self.rewritten.extend(recovered.rewritten);
    }
}

struct Editing<'a> {
    view: &'a View,
    survey: &'a Survey,
    parts: Vec<Edit>,
    table: Vec<(ByteOffset, Vec<u8>)>,
    changes: Vec<Change>,
    now: u64,
}

fn names(path: &str) -> Vec<&[u8]> {
    path.split('/').filter(|name| !name.is_empty()).map(str::as_bytes).collect()
}

/// A journal is replayed, then files are removed that were deleted while open; no volume needs more.
const MOST_SETTLING: usize = 4;
/// Bytes at the start of a partition that are read to find out whether it is blank.
const HEAD: usize = 64 << 10;

/// Returns whether the start of a partition contains only zeros.
fn is_blank(store: &dyn ReadAt) -> Result<bool> {
    Ok(is_zero(&read_up_to(store, ByteOffset::ZERO, HEAD)?))
}

/// The paths of host keys in the settings of an SSH server (`sshd_config(5)`).
fn host_keys_named_in(settings: &str) -> Vec<String> {
    let setting = |line: &str| {
        let mut words = line.split([' ', '\t', '=']).filter(|word| !word.is_empty());
        let is_it = words.next()?.eq_ignore_ascii_case("HostKey");
        words.next().filter(|_| is_it).map(|path| path.trim_matches('"').to_owned())
    };
    settings.lines().filter_map(setting).collect()
}

impl Editing<'_> {
    /// Assigns new ids to the table and to every volume, and updates references to them.
    fn new_ids(&mut self, means: ResizeOptions<'_>) -> Result<()> {
        let mut ids = Vec::new();
        if let Some(was) = &self.survey.table {
            self.table = was.with_ids(self.survey.size, &mut Uuid::new_v4)?;
            let mut view = self.view.clone();
            for (at, bytes) in &self.table {
                view = view.with_bytes(*at, bytes);
            }
            // Read again, as other systems will read it.
            let is = table::read(&view)?.ok_or_else(|| Error::bug("the new table is lost"))?;
            let title = format!("the {}", was.name());
            ids.push(NewId { from: was.id(), to: is.id() });
            self.changes.push(Change::NewId { title, from: was.id(), to: is.id() });
            for (was, is) in was.partitions().into_iter().zip(is.partitions()) {
                if let (Some(from), Some(to)) = (was.uuid, is.uuid) {
                    ids.push(NewId { from, to });
                }
            }
        }
        for part in &mut self.parts {
            let wrong = match &part.volume {
                Some(volume) if volume.uuid.is_some() => part.wrong()?.map(str::to_owned),
                Some(_) => continue,
                None => {
                    // Such as a hibernated swap, or a FAT with more than two tables.
                    if !is_blank(&*part.store)? {
                        let title = part.title.clone();
                        let why = "its content is not recognised".to_owned();
                        self.changes.push(Change::Warning(Warning::KeepsId { title, why }));
                    }
                    continue;
                }
            };
            let Some(volume) = part.volume.as_mut() else { continue };
            let recovered = match wrong {
                Some(why) => Err(Error::corrupt(why)),
                None => OpenVolume::known(Arc::clone(&part.store), volume.clone())
                    .with_id(Uuid::new_v4(), means),
            };
            match recovered {
                Ok(recovered) => {
                    let now = imbrik_fs::recognise(&*recovered.store)?
                        .ok_or_else(|| Error::bug("the volume under its new id is invalid"))?;
                    let (from, to) = (volume.uuid.clone(), now.uuid.clone());
                    let (from, to) = (from.unwrap_or_default(), to.unwrap_or_default());
                    ids.push(NewId { from: from.clone(), to: to.clone() });
                    let title = part.title.clone();
                    self.changes.push(Change::NewId { title, from, to });
                    *volume = now;
                    part.take(recovered);
                }
                Err(error) if matches!(error.class(), Class::Unsupported | Class::Corrupt) => {
                    let (title, why) = (part.title.clone(), error.to_string());
                    self.changes.push(Change::Warning(Warning::KeepsId { title, why }));
                }
                Err(error) => return Err(error),
            }
        }
        self.follow(&ids)
    }

    fn set_host(&mut self, host: &str) -> Result<()> {
        let is_name = !host.is_empty()
            && host.len() <= 63
            && host.chars().all(|c| c.is_ascii_alphanumeric() || c == '-')
            && !host.starts_with('-')
            && !host.ends_with('-');
        if !is_name {
            return Err(Error::usage(format!(
                "{host} is not a valid host name: use up to 63 letters, digits and hyphens, with no \
                 hyphen at either end"
            )));
        }
        let mut any = false;
        for index in 0..self.parts.len() {
            let Some(old) = self.file(index, "etc/hostname")? else { continue };
            any = true;
            let old = String::from_utf8_lossy(&old).trim().to_owned();
            self.put(
                index,
                "etc/hostname",
                format!("{host}\n").into_bytes(),
                None,
                "the host name",
            )?;
            let Some(known) = self.file(index, "etc/hosts")?.filter(|_| !old.is_empty()) else {
                continue;
            };
            let (new, others) = hosts::renamed(&known, &old, host);
            if new != known {
                self.put(index, "etc/hosts", new, None, "the host name")?;
            }
            let title = self.parts.get(index).map_or(String::new(), |part| part.short.clone());
            self.changes.extend(others.into_iter().map(|address| {
                let (title, name) = (title.clone(), old.clone());
                Change::Warning(Warning::OldNameOf { title, name, address })
            }));
        }
        match any {
            true => Ok(()),
            false => Err(Error::usage("no volume on it has a host name in /etc/hostname")),
        }
    }

    /// Replaces the host keys of each volume by a new Ed25519 key, and empties its machine id.
    fn new_keys(&mut self, host: Option<&str>) -> Result<()> {
        let comment = format!("root@{}", host.unwrap_or("localhost"));
        let mut has_keys = false;
        for index in 0..self.parts.len() {
            let mut old = Vec::new();
            for kind in keys::KINDS {
                let path = format!("etc/ssh/ssh_host_{kind}_key");
                if self.file(index, &path)?.is_some() {
                    old.push(path);
                }
            }
            if !old.is_empty() {
                has_keys = true;
                let (private, public) = keys::new_pair(&comment)?;
                self.put(index, HOST_KEY, private.into_bytes(), Some(0o600), "a new host key")?;
                let path = format!("{HOST_KEY}.pub");
                self.put(index, &path, public.into_bytes(), Some(0o644), "a new host key")?;
                old.retain(|path| path != HOST_KEY);
                self.remove_old_keys(index, &old)?;
            }
            for path in MACHINE_IDS {
                if self.file(index, path)?.is_some_and(|old| !old.is_empty()) {
                    self.put(index, path, Vec::new(), None, "emptied: its system makes a new one")?;
                }
            }
        }
        if !has_keys {
            self.changes.push(Change::Warning(Warning::NoKeys));
        }
        Ok(())
    }

    /// Removes host keys of other kinds, and warns where the settings of the server name one of them and not the new
    /// key: with no key that it can load, the server doesn't start.
    fn remove_old_keys(&mut self, index: usize, old: &[String]) -> Result<()> {
        let mut edits = Vec::new();
        for path in old.iter().flat_map(|path| [path.clone(), format!("{path}.pub")]) {
            if self.file(index, &path)?.is_some() {
                let path = names(&path).into_iter().map(<[u8]>::to_vec).collect();
                edits.push(FileEdit::Remove { path });
            }
        }
        if edits.is_empty() {
            return Ok(());
        }
        self.edit(index, &edits, "")?;
        let mut settings = self.names_in(index, "etc/ssh/sshd_config.d")?;
        settings.push("etc/ssh/sshd_config".to_owned());
        let mut named = Vec::new();
        for path in settings {
            let content = self.file(index, &path)?.unwrap_or_default();
            named.extend(host_keys_named_in(&String::from_utf8_lossy(&content)));
        }
        let is_removed = |path: &String| old.iter().any(|old| old == path.trim_start_matches('/'));
        if !named.is_empty() && named.iter().all(is_removed) {
            let title = self.parts.get(index).map_or(String::new(), |part| part.short.clone());
            self.changes.push(Change::Warning(Warning::HostKeysNamed { title, paths: named }));
        }
        Ok(())
    }

    /// Reads the file at `path` of a partition; `None` if it doesn't exist.
    fn file(&self, index: usize, path: &str) -> Result<Option<Vec<u8>>> {
        let part = self.parts.get(index);
        let Some((part, volume)) = part.and_then(|part| Some((part, part.volume.as_ref()?))) else {
            return Ok(None);
        };
        match volume.files(&*part.store)? {
            Some(files) => files.small_file(&names(path), MOST),
            None => Ok(None),
        }
    }

    fn put(
        &mut self,
        index: usize,
        path: &str,
        content: Vec<u8>,
        mode: Option<u16>,
        why: &str,
    ) -> Result<()> {
        let edit = FileEdit::Put {
            path: names(path).into_iter().map(<[u8]>::to_vec).collect(),
            content: Arc::new(SparseStore::of(&content)),
            meta: FileMeta { permissions: mode, ..FileMeta::default() },
        };
        self.edit(index, &[edit], why)
    }

    /// Applies `edits` to the files of a partition.
    fn edit(&mut self, index: usize, edits: &[FileEdit], why: &str) -> Result<()> {
        let part = self.parts.get_mut(index);
        let part = part.ok_or_else(|| Error::usage("the card has no such partition"))?;
        let title = part.title.clone();
        let volume = part.volume.as_ref().ok_or_else(|| {
            Error::unsupported(format!("the content of {} is unknown", part.short))
        })?;
        if let Some(why) = part.wrong()? {
            return Err(Error::corrupt(why).at(title));
        }
        let volume = volume.clone();
        if part.replay_journal(&volume).map_err(|error| error.at(&title))? {
            self.changes.push(Change::JournalReplayed { title: title.clone() });
        }
        let now = FileTime { seconds: i64::try_from(self.now).unwrap_or(0), nanoseconds: 0 };
        let open = OpenVolume::known(Arc::clone(&part.store), volume);
        let edited = open.edit(edits, EditOptions { now, keeps_old: false });
        part.take(edited.map_err(|error| error.at(title))?.volume);
        let title = part.short.clone();
        self.changes.extend(changes_of(edits, &title, why));
        Ok(())
    }
}

/// Describes edits as changes. A new folder and its content are one change.
fn changes_of(edits: &[FileEdit], title: &str, why: &str) -> Vec<Change> {
    let mut changes = Vec::new();
    let mut above: Option<&[Vec<u8>]> = None;
    for edit in edits {
        let is_inside = above.is_some_and(|above| edit.path().starts_with(above));
        if let (true, Some(Change::PutTree { files, bytes, .. })) = (is_inside, changes.last_mut())
            && !matches!(edit, FileEdit::Remove { .. } | FileEdit::Rename { .. })
        {
            if let FileEdit::Put { content, .. } = edit {
                *bytes = bytes.saturating_add(content.size());
            }
            *files = files.saturating_add(u64::from(!matches!(edit, FileEdit::Folder { .. })));
            continue;
        }
        above = None;
        if let FileEdit::Folder { path, .. } = edit {
            above = Some(path);
        }
        changes.push(change_of(edit, title, why));
    }
    changes
}

/// Describes an edit as a change.
fn change_of(edit: &FileEdit, title: &str, why: &str) -> Change {
    let text = |path: &[Vec<u8>]| String::from_utf8_lossy(&path.join(&b'/')).into_owned();
    let (title, path) = (title.to_owned(), text(edit.path()));
    match edit {
        FileEdit::Folder { .. } => {
            Change::PutTree { title, path, files: 0, bytes: ByteLen::ZERO, why: why.to_owned() }
        }
        FileEdit::Remove { .. } => Change::Removed { title, path },
        FileEdit::Rename { to, .. } => Change::Renamed { title, path, to: text(to) },
        _ => Change::Put { title, path, why: why.to_owned() },
    }
}
