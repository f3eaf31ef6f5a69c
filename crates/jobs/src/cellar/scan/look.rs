//! One file of a scan: its digests in one read, what it is, and what is in it, each as sets may know it.

use crate::locate::Files;
use crate::{Setting, verify};
use decanter_cellar::files::{Content, Form, Found, MemberRow, Trouble};
use decanter_core::catalogue::Sums;
use decanter_core::digest::lanes::sha1_of_many;
use decanter_core::digest::{Algorithm, Digest, Hasher, of_bytes, of_source};
use decanter_core::error::Blame;
use decanter_core::format::{Format, Opener};
use decanter_core::head::Head;
use decanter_core::names::stem_of;
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Bytes, SourceRef};
use decanter_core::store::Store;
use decanter_core::tree::Tree;
use decanter_core::view::{MOST_HELD, held};
use decanter_core::{Error, Guard, Keyring, Result};
use decanter_formats::REGISTRY;
use decanter_formats::chunked::chd;
use std::sync::Arc;

/// Files up to this size are read many at a time.
pub(in crate::cellar) const SHORT: u64 = 64 << 10;
/// Files up to this size are read in one piece, and then looked at in memory.
const SMALL: u64 = 4 << 20;
/// Containers in containers.
const MOST_DEPTH: usize = 4;
/// Members of one file that are kept.
const MOST_MEMBERS: usize = 1 << 20;

/// Who looks at files.
pub(in crate::cellar) struct Looker<'a> {
    pub(in crate::cellar) digests: &'a [Algorithm],
    pub(in crate::cellar) keys: &'a Keyring,
    pub(in crate::cellar) setting: &'a Setting<'a>,
}

impl Looker<'_> {
    /// What is in the file at `path`, and what it is.
    ///
    /// # Errors
    /// When it cannot be read, or the user stops. Damage inside is told with what was found.
    pub(in crate::cellar) fn file(&self, path: &str) -> Result<Found> {
        let read = self.read(self.open(path)?)?;
        self.seen(path, read)
    }

    /// The same for a file that was read.
    ///
    /// # Errors
    /// As [`Looker::file`].
    pub(super) fn seen(&self, path: &str, (source, content): (SourceRef, Content)) -> Result<Found> {
        let mut found = Found { content, ..Found::default() };
        match self.inside(&source, path, &mut found) {
            Ok(()) => Ok(found),
            Err(Error::Cancelled) => Err(Error::Cancelled),
            // Nothing is wrong with what is only not read here; it is told as such.
            Err(e @ (Error::Key(_) | Error::Unsupported { .. } | Error::Limit { .. })) => {
                found
                    .facts
                    .get_or_insert_with(|| serde_json::json!({ "not looked through": e.to_string() }).to_string());
                Ok(found)
            }
            // Its bytes were read; what is wrong is wrong in them.
            Err(e) if e.blame() == Blame::Source => {
                found.trouble.get_or_insert((Trouble::Damaged, e.to_string()));
                Ok(found)
            }
            Err(e) => Err(e),
        }
    }

    /// The bytes of a file that is short, and as long as it was a moment ago. Whatever stands against that shows when it is
    /// read by itself.
    pub(super) fn short(&self, path: &str, len: u64) -> Option<Vec<u8>> {
        let source = self.open(path).ok().filter(|source| source.len() == len && len <= SHORT)?;
        let mut bytes = vec![0; len as usize];
        source.read_at(0, &mut bytes).ok().map(|()| bytes)
    }

    /// The digests of short files, worked out side by side.
    pub(super) fn side_by_side(&self, files: Vec<Option<Vec<u8>>>) -> Vec<Option<(SourceRef, Content)>> {
        let messages: Vec<&[u8]> = files.iter().flatten().map(Vec::as_slice).collect();
        let mut sha1 = sha1_of_many(&messages).into_iter();
        let content = |bytes: Vec<u8>, sha1: [u8; 20]| -> (SourceRef, Content) {
            let mut sums = Sums::default();
            for &algorithm in self.digests {
                match algorithm {
                    Algorithm::Sha1 => sums.set(algorithm, &sha1),
                    other => sums.set(other, &of_bytes(other, &bytes).bytes),
                };
            }
            let size = bytes.len() as u64;
            (Arc::new(Bytes(bytes)), Content { size, sums, ..Content::default() })
        };
        files.into_iter().map(|file| file.and_then(|bytes| Some(content(bytes, sha1.next()?)))).collect()
    }

    /// Only its digests.
    ///
    /// # Errors
    /// As [`Looker::file`].
    pub(in crate::cellar) fn sums(&self, path: &str) -> Result<Content> {
        Ok(self.read(self.open(path)?)?.1)
    }

    fn open(&self, path: &str) -> Result<SourceRef> {
        if path.contains("://") {
            return self.setting.store(path).open_later(path);
        }
        // None of these files is ever written by this run: no list of them is kept.
        Files(&Guard::default()).open(path)
    }

    /// Length and digests; what is small is in memory from then on.
    fn read(&self, source: SourceRef) -> Result<(SourceRef, Content)> {
        decanter_core::watch::check(self.setting.watch)?;
        let size = source.len();
        let (source, digests): (SourceRef, Vec<Digest>) = if size > SMALL {
            let digests = of_source(&source, self.digests, &Quiet(self.setting))?;
            (source, digests)
        } else {
            let mut bytes = vec![0; size as usize];
            source.read_at(0, &mut bytes)?;
            let hash = |&algorithm: &Algorithm| {
                let mut hasher = Hasher::new(algorithm);
                hasher.update(&bytes);
                hasher.finish()
            };
            let digests = self.digests.iter().map(hash).collect();
            (Arc::new(Bytes(bytes)), digests)
        };
        let mut sums = Sums::default();
        for digest in digests {
            sums.set(digest.algorithm, &digest.bytes);
        }
        Ok((source, Content { size, sums, ..Content::default() }))
    }

    /// What a file is, and what is in it.
    fn inside(&self, source: &SourceRef, path: &str, found: &mut Found) -> Result<()> {
        let Some(likeliest) = REGISTRY.detect(&Head::new(source.as_ref()))? else { return Ok(()) };
        let container = verify::catalogue::container(source)?;
        let format = container.unwrap_or(likeliest);
        if format.role() == Role::Sheet {
            return self.sheet(path, found);
        }
        let names = [stem_of(decanter_core::catalogue::last_name(path)).to_owned()];
        let beside = crate::locate::beside(path, self.setting);
        let opener = self.setting.opener(self.keys).with_names(&names);
        let opened = opener.with_beside(&beside).open_as(format, source.clone());
        let opened = match opened {
            Ok(opened) => opened,
            Err(e) => {
                found.content.format = Some(format.id().to_owned());
                found.content.kind = Some(format.name().to_owned());
                return Err(e);
            }
        };
        tell(&opened, found);
        if let Some(promised) = opened.extent.promised_len.filter(|promised| *promised > source.len()) {
            let missing = crate::grouped(promised - source.len());
            found.trouble = Some((Trouble::Damaged, format!("it is cut short: {missing} bytes are missing")));
        } else if let Some(notice) = opened.told.notices.iter().find(|n| n.is_damage) {
            found.trouble = Some((Trouble::Damaged, notice.text.clone()));
        }
        if let Some(rom) = &opened.holds.rom
            && source.len() <= MOST_HELD
        {
            found.forms = self.forms(verify::catalogue::of_rom(rom))?;
        }
        if container.is_some() {
            if chd::Chd.is_of(&opened) {
                found.forms.extend(self.carried(source, &opened)?);
            }
            self.members(&opened, "", decanter_core::catalogue::last_name(path), 0, &mut found.members)?;
            found.holds = !found.members.is_empty();
        }
        Ok(())
    }

    /// A cue sheet: the files that it names, and its tracks where they share one.
    fn sheet(&self, path: &str, found: &mut Found) -> Result<()> {
        found.content.kind = Some("cue sheet".to_owned());
        found.content.format = Some("cue".to_owned());
        let Some((files, tracks)) = verify::catalogue::sheet(path, self.setting)? else { return Ok(()) };
        found.parts = files;
        if let Some(tracks) = tracks {
            self.tracks(&tracks, "", "*", &mut found.members)?;
            found.holds = !found.members.is_empty();
        }
        Ok(())
    }

    /// What is in a container. `prefix` is its own path in the file, `name` what it is called.
    fn members(
        &self,
        opened: &Opened,
        prefix: &str,
        name: &str,
        depth: usize,
        members: &mut Vec<MemberRow>,
    ) -> Result<()> {
        if !opened.holds.tracks.is_empty() {
            // The file itself may be renamed: its tracks are called as it is called then.
            return self.tracks(&opened.holds.tracks, prefix, if depth == 0 { "*" } else { name }, members);
        }
        for (node, file) in opened.holds.tree.iter().flat_map(Tree::files) {
            decanter_core::watch::check(self.setting.watch)?;
            if members.len() >= MOST_MEMBERS {
                let limit = MOST_MEMBERS as u64;
                return Err(Error::Limit { what: "the number of members", asked: limit + 1, limit });
            }
            let path = format!("{prefix}{}", node.path);
            let outer = if depth == 0 { "*.x" } else { name };
            let called = verify::catalogue::inner_name(opened.holds.has_own_names, &node.path, outer);
            let met = match file.source() {
                Ok(source) => self.member(source.clone(), &path, &called, depth, members),
                Err(e) => Err(e),
            };
            match met {
                Ok(()) => {}
                Err(Error::Cancelled) => return Err(Error::Cancelled),
                Err(e) => {
                    // What needs a key or a method that is not known here is locked, not damaged.
                    let is_locked = matches!(e, Error::Key(_) | Error::Unsupported { .. } | Error::Limit { .. });
                    members.push(MemberRow {
                        called: own_name(&called, &path),
                        path,
                        content: Content {
                            size: file.len,
                            kind: is_locked.then(|| format!("not read: {e}")),
                            ..Content::default()
                        },
                        why: (!is_locked).then(|| e.to_string()),
                        ..MemberRow::default()
                    });
                }
            }
        }
        Ok(())
    }

    fn member(
        &self,
        source: SourceRef,
        path: &str,
        called: &str,
        depth: usize,
        members: &mut Vec<MemberRow>,
    ) -> Result<()> {
        // What is long may be unpacked only as far as it is asked for: its digests come last.
        let (source, content) = match source.len() <= SMALL {
            true => self.read(source).map(|(source, content)| (source, Some(content)))?,
            false => (held(&source), None),
        };
        let container = verify::catalogue::container(&source)?.filter(|_| depth + 1 < MOST_DEPTH);
        let names = [stem_of(decanter_core::catalogue::last_name(called)).to_owned()];
        let opener = self.setting.opener(self.keys).with_names(&names).at_depth(depth + 1);
        if let Some(format) = container {
            let opened = opener.open_as(format, source.clone())?;
            let before = members.len();
            self.members(&opened, &format!("{path}::"), called, depth + 1, members)?;
            if members.len() > before {
                return Ok(());
            }
        }
        let mut member = MemberRow {
            path: path.to_owned(),
            called: own_name(called, path),
            content: match content {
                Some(content) => content,
                None => self.read(source.clone())?.1,
            },
            ..MemberRow::default()
        };
        self.name_member(&source, &opener, &mut member)?;
        members.push(member);
        Ok(())
    }

    /// What a member is: of small ones with what they say of themselves, of long ones only the format.
    fn name_member(&self, source: &SourceRef, opener: &Opener<'_>, member: &mut MemberRow) -> Result<()> {
        let head = if source.prefers_sequential() { Head::glance(source.as_ref()) } else { Head::new(source.as_ref()) };
        let Some(format) = REGISTRY.detect(&head)? else { return Ok(()) };
        member.content.format = Some(format.id().to_owned());
        member.content.kind = Some(format.name().to_owned());
        if source.len() > SMALL || matches!(format.role(), Role::Sheet) {
            return Ok(());
        }
        match opener.open_as(format, source.clone()) {
            Ok(opened) => {
                identity(&opened, &mut member.content);
                if let Some(rom) = &opened.holds.rom {
                    member.forms = self.forms(verify::catalogue::of_rom(rom))?;
                }
                Ok(())
            }
            Err(Error::Cancelled) => Err(Error::Cancelled),
            // It is what its first bytes say; more cannot be said of it.
            Err(_) => Ok(()),
        }
    }

    fn tracks(
        &self,
        tracks: &[decanter_core::track::Track],
        prefix: &str,
        name: &str,
        members: &mut Vec<MemberRow>,
    ) -> Result<()> {
        let whole = verify::catalogue::whole_disc(tracks)?;
        for track in tracks {
            let names = verify::catalogue::track_names(&format!("{name}.x"), track.number, tracks.len());
            let mut row = MemberRow {
                path: format!("{prefix}track {}", track.number),
                called: names.into_iter().next(),
                is_track: true,
                content: Content { size: track.source.len(), kind: Some("track".into()), ..Content::default() },
                ..MemberRow::default()
            };
            let read = || -> Result<(Content, Vec<Form>)> {
                let mut readings = verify::catalogue::of_track(track)?.into_iter();
                let own = match readings.next() {
                    Some(own) => self.read(own)?.1,
                    None => Content::default(),
                };
                let words = || format!("the image, to track {}", track.number);
                Ok((own, self.forms(readings.map(|reading| (words(), reading)).collect())?))
            };
            match read() {
                Ok((content, forms)) => {
                    row.content = Content { kind: row.content.kind, ..content };
                    row.forms = forms;
                }
                Err(Error::Cancelled) => return Err(Error::Cancelled),
                Err(e) => row.why = Some(e.to_string()),
            }
            members.push(row);
        }
        if let Some(whole) = whole.filter(|_| members.iter().all(|m| m.why.is_none())) {
            let words = format!("the image, to its {} tracks behind each other", tracks.len());
            let form = self.forms(vec![(words, whole)])?;
            // A list that knows the whole knows none of the tracks: the first stands for all.
            if let Some(first) = members.iter_mut().find(|m| m.is_track) {
                first.forms.extend(form);
            }
        }
        Ok(())
    }

    fn forms(&self, readings: Vec<(String, SourceRef)>) -> Result<Vec<Form>> {
        let form = |(through, source): (String, SourceRef)| {
            let content = self.read(source)?.1;
            Ok(Form { through, suffix: None, size: content.size, sums: content.sums })
        };
        readings.into_iter().map(form).collect()
    }

    /// The SHA-1 that an image of a disk carries of itself, by which lists know disks. It is proven by the bytes: the image is
    /// read through.
    fn carried(&self, source: &SourceRef, opened: &Opened) -> Result<Option<Form>> {
        let Some(own) = chd::own_sha1(source.as_ref())? else { return Ok(None) };
        if !opened.holds.tracks.is_empty() {
            return Ok(None);
        }
        verify::catalogue::prove_carried(opened, &Quiet(self.setting))?;
        let mut sums = Sums::default();
        sums.set(Algorithm::Sha1, &own);
        let through = verify::catalogue::CARRIED.to_owned();
        Ok(Some(Form { through, suffix: Some(".chd".to_owned()), size: source.len(), sums }))
    }
}

/// Kept only where it is another name than the path has.
fn own_name(called: &str, path: &str) -> Option<String> {
    let inner = path.rsplit("::").next().unwrap_or(path);
    (called != inner || inner != path).then(|| called.to_owned())
}

fn identity(opened: &Opened, content: &mut Content) {
    content.format = Some(opened.identity.format.to_owned());
    content.kind = Some(opened.identity.kind.clone());
    content.title.clone_from(&opened.identity.title);
    content.title_id.clone_from(&opened.identity.id);
}

/// What a file says of itself.
fn tell(opened: &Opened, found: &mut Found) {
    identity(opened, &mut found.content);
    if found.content.title.is_none() {
        found.content.title = opened.told.facts.iter().find(|f| f.name == "title").map(|f| f.value.clone());
    }
    let facts: serde_json::Map<String, serde_json::Value> =
        opened.told.facts.iter().map(|fact| (fact.name.to_owned(), fact.value.clone().into())).collect();
    if !facts.is_empty() {
        found.facts = Some(serde_json::Value::Object(facts).to_string());
    }
    let titles = opened.told.label.iter().flat_map(|label| &label.titles);
    found.labels = titles.map(|(language, title)| ((*language).to_owned(), title.clone())).collect();
}

/// Progress counts the files themselves, not what is unpacked out of them.
struct Quiet<'a>(&'a Setting<'a>);

impl decanter_core::Watch for Quiet<'_> {
    fn cancelled(&self) -> bool {
        self.0.watch.cancelled()
    }
}
