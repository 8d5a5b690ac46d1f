//! An identity of its own: what tells a copy from its original.
//!
//! All of it are edits of a plan's view: the source stays as it is. Ids are followed wherever files
//! on the card refer to them.

mod hosts;
mod keys;

use super::{Change, Plan, Reference, Survey, View, references, start::PLACES};
use crate::{
    error::{Class, Error, Result},
    fs::{self, FilePut, Settled, Volume},
    progress::Cancel,
    store::{ReadAt, Window},
    table,
    units::{ByteLen, ByteOffset, Span, joined},
};
use ssh_key::rand_core::{OsRng, RngCore};
use std::sync::Arc;
use uuid::Uuid;

/// Further files that name volumes and partitions.
const MORE_PLACES: [&str; 5] = [
    "etc/crypttab",
    "etc/default/grub",
    "etc/kernel/cmdline",
    "etc/initramfs-tools/conf.d/resume",
    "boot/firmware/uEnv.txt",
];
/// Folders all of whose files with these endings are looked into.
const FOLDERS: [(&str, &str); 3] = [
    ("loader/entries", ".conf"),
    ("boot/loader/entries", ".conf"),
    ("etc/systemd/system", ".mount"),
];
/// The longest of these files that is looked into, in bytes.
const MOST: usize = 1 << 20;
/// Files that hold the machine's id, and are empty until it has one.
const MACHINE_IDS: [&str; 2] = ["etc/machine-id", "var/lib/dbus/machine-id"];

/// What a copy gets of its own.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Identity {
    /// Whether the table and all volumes get new ids, and what refers to them follows.
    pub ids: bool,
    /// Its host name.
    pub host: Option<String>,
    /// Whether it gets SSH host keys of its own, of the kinds that are there, and loses its machine
    /// id, so that its system makes a new one.
    pub keys: bool,
    /// Small files to put in.
    pub files: Vec<IdentityFile>,
    /// The time that files say they were changed at, in seconds since 1970.
    pub now: u64,
}

/// A small file to put in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct IdentityFile {
    /// The partition: its place in [`Survey::parts`].
    pub part: usize,
    /// From the root, with slashes.
    pub path: String,
    /// All of it.
    pub content: Vec<u8>,
}

impl Identity {
    /// Whether nothing changes.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        !self.ids && self.host.is_none() && !self.keys && self.files.is_empty()
    }
}

impl Plan {
    /// The same plan with an identity of its own. What changes, and what refers to an id and could
    /// not follow, stands in [`Plan::changes`].
    ///
    /// # Errors
    /// - When the source cannot be read, or stopping was requested.
    /// - [`Class::Unsupported`] and [`Class::Corrupt`] when a volume is not edited, with the reason.
    /// - [`Class::NoRoom`] when a file has no room.
    /// - [`Class::Usage`] when there is nothing that could have such a name.
    pub fn with_identity(self, identity: &Identity, cancel: &Cancel) -> Result<Self> {
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
            // What contradicts itself is not edited.
            let wrong = match &part.volume {
                Some(volume) => fs::examine(&store, volume)?.usage.whole_because,
                None => None,
            };
            parts.push(Edit {
                wrong,
                title: part.full_title(),
                short: part.title(),
                span: part.span,
                volume: part.volume.clone(),
                store,
                rewritten: Vec::new(),
            });
        }
        let mut work = Work {
            view: &self.view,
            survey: &survey,
            parts,
            table: Vec::new(),
            changes: Vec::new(),
            now: identity.now,
        };
        if identity.ids {
            work.new_ids(cancel)?;
        }
        if let Some(host) = &identity.host {
            work.set_host(host)?;
        }
        if identity.keys {
            work.new_keys(identity.host.as_deref().or(survey.host.as_deref()))?;
        }
        for file in &identity.files {
            work.put(file.part, &file.path, file.content.clone(), None, "as asked")?;
        }
        let Work { parts, table, changes, .. } = work;
        let mut plan = self;
        for part in parts.iter().filter(|part| !part.rewritten.is_empty()) {
            let moved = part.rewritten.iter().map(|span| {
                let start = part.span.start().saturating_add(ByteLen::new(span.start().get()));
                Span::between(start, start.saturating_add(span.len()))
            });
            let spans = joined(moved.collect());
            plan.view = plan.view.with_store(&spans, &part.store, part.span.start());
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
    /// Why it is not edited.
    wrong: Option<String>,
    store: Arc<dyn ReadAt>,
    rewritten: Vec<Span>,
}

impl Edit {
    fn take(&mut self, settled: Settled) {
        self.store = settled.store;
        self.rewritten.extend(settled.rewritten);
    }
}

struct Work<'a> {
    view: &'a View,
    survey: &'a Survey,
    parts: Vec<Edit>,
    table: Vec<(ByteOffset, Vec<u8>)>,
    changes: Vec<Change>,
    now: u64,
}

/// An id and the one that takes its place, as files write them.
struct NewId {
    from: String,
    to: String,
}

fn names(path: &str) -> Vec<&[u8]> {
    path.split('/').filter(|name| !name.is_empty()).map(str::as_bytes).collect()
}

fn fresh() -> Uuid {
    let mut bytes = [0; 16];
    OsRng.fill_bytes(&mut bytes);
    uuid::Builder::from_random_bytes(bytes).into_uuid()
}

impl Work<'_> {
    /// New ids for the table and every volume, and for whatever refers to them.
    fn new_ids(&mut self, cancel: &Cancel) -> Result<()> {
        let mut ids = Vec::new();
        if let Some(was) = &self.survey.table {
            self.table = was.with_ids(self.survey.size, &mut fresh)?;
            let mut view = self.view.clone();
            for (at, bytes) in &self.table {
                view = view.with_bytes(*at, bytes);
            }
            // What systems will make of it.
            let is = table::read(&view)?.ok_or_else(|| Error::corrupt("the new table is lost"))?;
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
            let Some(volume) = part.volume.as_mut().filter(|volume| volume.uuid.is_some()) else {
                continue;
            };
            let settled = match &part.wrong {
                Some(why) => Err(Error::corrupt(why)),
                None => fs::with_id(&part.store, volume, fresh(), cancel),
            };
            match settled {
                Ok(settled) => {
                    let now = fs::recognise(&*settled.store)?.ok_or_else(|| {
                        Error::corrupt("the volume under its new id makes no sense")
                    })?;
                    let (from, to) = (volume.uuid.clone(), now.uuid.clone());
                    let (from, to) = (from.unwrap_or_default(), to.unwrap_or_default());
                    ids.push(NewId { from: from.clone(), to: to.clone() });
                    let title = part.title.clone();
                    self.changes.push(Change::NewId { title, from, to });
                    *volume = now;
                    part.take(settled);
                }
                Err(error) if matches!(error.class(), Class::Unsupported | Class::Corrupt) => {
                    let words = format!("{} keeps its id: {error}", part.title);
                    self.changes.push(Change::Warning(words));
                }
                Err(error) => return Err(error),
            }
        }
        self.follow(&ids)?;
        self.tell_what_stays()
    }

    /// What is named by something other than an id, which original and copy go on sharing.
    fn tell_what_stays(&mut self) -> Result<()> {
        for Reference { from, what, .. } in references(self.view, self.survey)? {
            let why = match what.as_str() {
                what if what.contains("LABEL=") || what.contains("/by-label/") => "labels stay",
                what if what.contains("/by-") => continue,
                what if what.contains("/dev/") => "that is a place, and no id",
                _ => continue,
            };
            self.changes.push(Change::Warning(format!("/{from} keeps {what}: {why}")));
        }
        Ok(())
    }

    /// Replaces ids in the files that are known to name some.
    fn follow(&mut self, ids: &[NewId]) -> Result<()> {
        for index in 0..self.parts.len() {
            for path in self.places(index)? {
                let Some(part) = self.parts.get(index) else { continue };
                let Some(volume) = &part.volume else { continue };
                let old = fs::small_file(&*part.store, volume, &names(&path), MOST)?;
                let Some(old) = old.filter(|old| !old.is_empty() && old.len() < MOST) else {
                    continue;
                };
                let (new, used) = replaced(&old, ids);
                if used.is_empty() {
                    continue;
                }
                let each = used.iter().map(|id| format!("{} instead of {}", id.to, id.from));
                let why = format!("names {}", each.collect::<Vec<_>>().join(", "));
                let title = part.title.clone();
                match self.put(index, &path, new, None, &why) {
                    Err(error) if matches!(error.class(), Class::Unsupported | Class::NoRoom) => {
                        self.changes.push(Change::Warning(format!(
                            "/{path} on {title} still names an old id: {error}"
                        )));
                    }
                    other => other?,
                }
            }
        }
        Ok(())
    }

    /// The files of a partition that may name ids.
    fn places(&self, index: usize) -> Result<Vec<String>> {
        let mut places: Vec<String> =
            PLACES.iter().chain(&MORE_PLACES).map(|place| (*place).to_owned()).collect();
        let Some((part, volume)) =
            self.parts.get(index).and_then(|part| Some((part, part.volume.as_ref()?)))
        else {
            return Ok(Vec::new());
        };
        for (folder, ending) in FOLDERS {
            let found = fs::names_in(&*part.store, volume, &names(folder))?;
            let found = found.unwrap_or_default().into_iter().filter_map(|name| {
                let name = String::from_utf8(name).ok()?;
                name.ends_with(ending).then(|| format!("{folder}/{name}"))
            });
            places.extend(found);
        }
        Ok(places)
    }

    fn set_host(&mut self, host: &str) -> Result<()> {
        let is_name = !host.is_empty()
            && host.len() <= 63
            && host.chars().all(|c| c.is_ascii_alphanumeric() || c == '-')
            && !host.starts_with('-')
            && !host.ends_with('-');
        if !is_name {
            return Err(Error::usage(format!("{host} cannot be a host name")));
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
                let place = format!("/etc/hosts on {title}");
                Change::Warning(format!("{place} keeps {old} as the name of {address}"))
            }));
        }
        match any {
            true => Ok(()),
            false => Err(Error::usage("no volume on it has a host name in /etc/hostname")),
        }
    }

    fn new_keys(&mut self, host: Option<&str>) -> Result<()> {
        let comment = format!("root@{}", host.unwrap_or("localhost"));
        let mut any = false;
        for index in 0..self.parts.len() {
            for kind in keys::KINDS {
                let path = format!("etc/ssh/ssh_host_{kind}_key");
                if self.file(index, &path)?.is_none() {
                    continue;
                }
                any = true;
                let (private, public) = keys::fresh(kind, &comment)?;
                self.put(index, &path, private.into_bytes(), Some(0o600), "a key of its own")?;
                let path = format!("{path}.pub");
                self.put(index, &path, public.into_bytes(), Some(0o644), "a key of its own")?;
            }
            if self.file(index, "etc/ssh/ssh_host_dsa_key")?.is_some() {
                let words = "/etc/ssh/ssh_host_dsa_key stays: keys of that kind are no longer made";
                self.changes.push(Change::Warning(words.to_owned()));
            }
            for path in MACHINE_IDS {
                if self.file(index, path)?.is_some_and(|old| !old.is_empty()) {
                    self.put(index, path, Vec::new(), None, "emptied: its system makes a new one")?;
                }
            }
        }
        if !any {
            let words = "no SSH host keys are on it, so none are made";
            self.changes.push(Change::Warning(words.to_owned()));
        }
        Ok(())
    }

    /// The file at `path` of a partition; `None` when there is none.
    fn file(&self, index: usize, path: &str) -> Result<Option<Vec<u8>>> {
        let part = self.parts.get(index);
        let Some((part, volume)) = part.and_then(|part| Some((part, part.volume.as_ref()?))) else {
            return Ok(None);
        };
        fs::small_file(&*part.store, volume, &names(path), MOST)
    }

    fn put(
        &mut self,
        index: usize,
        path: &str,
        content: Vec<u8>,
        mode: Option<u16>,
        why: &str,
    ) -> Result<()> {
        let part = self.parts.get_mut(index);
        let part = part.ok_or_else(|| Error::usage("there is no such partition"))?;
        let place = format!("{path} on {}", part.title);
        let volume = part
            .volume
            .as_ref()
            .ok_or_else(|| Error::unsupported(format!("what is in {} is not known", part.short)))?;
        if let Some(why) = &part.wrong {
            return Err(Error::corrupt(why).at(place));
        }
        let path = path.trim_start_matches('/').to_owned();
        let file = FilePut {
            path: names(&path).into_iter().map(<[u8]>::to_vec).collect(),
            content,
            mode,
            now: self.now,
        };
        let settled = fs::put_file(&part.store, volume, &file).map_err(|error| error.at(place))?;
        part.take(settled);
        let (title, why) = (part.short.clone(), why.to_owned());
        self.changes.push(Change::Put { title, path, why });
        Ok(())
    }
}

/// `text` with every id replaced that stands as a word of its own, whatever its case; and which those
/// were, each once.
fn replaced<'a>(text: &[u8], ids: &'a [NewId]) -> (Vec<u8>, Vec<&'a NewId>) {
    let is_part = |byte: Option<&u8>| byte.is_some_and(|byte| byte.is_ascii_alphanumeric());
    let mut out = Vec::with_capacity(text.len());
    let mut used: Vec<&NewId> = Vec::new();
    let mut at = 0usize;
    while let Some(rest) = text.get(at..).filter(|rest| !rest.is_empty()) {
        let begins = !is_part(at.checked_sub(1).and_then(|before| text.get(before)));
        let found = ids.iter().filter(|id| !id.from.is_empty() && begins).filter(|id| {
            let len = id.from.len();
            rest.get(..len).is_some_and(|word| word.eq_ignore_ascii_case(id.from.as_bytes()))
                && !is_part(rest.get(len))
        });
        // Of those that fit, the longest: a PARTUUID begins with the id of its table.
        match found.max_by_key(|id| id.from.len()) {
            Some(id) => {
                out.extend(id.to.as_bytes());
                at = at.saturating_add(id.from.len());
                if !used.iter().any(|known| known.from == id.from) {
                    used.push(id);
                }
            }
            None => {
                out.extend(rest.first());
                at = at.saturating_add(1);
            }
        }
    }
    (out, used)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ids_are_replaced_where_they_are_words() {
        let id = |from: &str, to: &str| NewId { from: from.into(), to: to.into() };
        let ids = [
            id("48560007", "11112222"),
            id("48560007-02", "11112222-02"),
            id("1A2B-3C4D", "5E6F-7081"),
            id("hive-07", "hive-11"),
        ];
        let new = |text: &str| {
            let (bytes, used) = replaced(text.as_bytes(), &ids);
            (String::from_utf8(bytes).unwrap(), used.len())
        };
        assert_eq!(
            new("root=PARTUUID=48560007-02 rootwait"),
            ("root=PARTUUID=11112222-02 rootwait".into(), 1)
        );
        assert_eq!(new("UUID=1a2b-3c4d /boot"), ("UUID=5E6F-7081 /boot".into(), 1));
        assert_eq!(new("148560007 48560007a hive-070"), ("148560007 48560007a hive-070".into(), 0));
        assert_eq!(
            new("127.0.1.1\thive-07 hive-07.local\n"),
            ("127.0.1.1\thive-11 hive-11.local\n".into(), 1)
        );
    }
}
