//! The titles in a package or a gamecard's partition: lists of contents, what they list, tickets. What holds them does not
//! matter here; names of files do, because they are the contents' ids.

use super::cnmt::{self, Cnmt, Record, Role};
use super::keys::hex;
use super::nca::header::Kind as NcaKind;
use super::nca::{Nca, header};
use super::ticket::{self, Ticket};
use super::title::{self, Kind};
use decanter_core::error::KeyTrouble;
use decanter_core::keyring::Keyring;
use decanter_core::seal::{Expected, Seal, Sealed, Settled};
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::tree::{Content as NodeContent, File, Kind as NodeKind, Node};
use decanter_core::view::Slice;
use decanter_core::{Error, Result};
use std::collections::HashMap;
use std::ops::Range;
use std::sync::Arc;

/// What the file of a list of contents ends in.
pub const META: &str = ".cnmt.nca";
const INSTALL: &str = "a console refuses to install it: get a whole copy";

/// A file of a package.
#[derive(Clone)]
pub struct Held {
    /// Its name.
    pub name: String,
    /// Where it is in the package.
    pub range: Range<u64>,
    /// Its bytes, as many as are there.
    pub source: SourceRef,
}

impl Held {
    /// The file at `range` of a package, cut where that ends.
    ///
    /// # Errors
    /// When a slice cannot be made, which the check before it rules out.
    pub fn of(name: &str, package: &SourceRef, range: &Range<u64>) -> Result<Self> {
        let start = range.start.min(package.len());
        let end = range.end.min(package.len());
        let source = Arc::new(Slice::new(package.clone(), start, end - start)?);
        Ok(Self { name: name.to_owned(), range: range.clone(), source })
    }

    /// Its length, as the package says.
    pub fn len(&self) -> u64 {
        self.range.end - self.range.start
    }

    /// True for one of no bytes.
    pub fn is_empty(&self) -> bool {
        self.range.is_empty()
    }

    /// How many of its bytes are missing.
    pub fn missing(&self) -> u64 {
        self.len() - self.source.len()
    }
}

/// A title of a package.
#[derive(Clone)]
pub struct Title {
    /// Its list of contents.
    pub cnmt: Cnmt,
    /// The file with that list.
    pub meta: usize,
    /// The file of each record; `None` where it is not there.
    pub files: Vec<Option<usize>>,
}

impl Title {
    /// What it is called in messages: "update 05009A3E11D20800".
    pub fn name(&self) -> String {
        format!("{} {}", self.cnmt.kind.name(), title::shown(self.cnmt.title_id))
    }

    /// The file of the first content of this role.
    pub fn file_of(&self, role: Role) -> Option<usize> {
        self.cnmt.records.iter().zip(&self.files).find(|(r, _)| r.role == role).and_then(|(_, file)| *file)
    }

    /// Contents that have to be there and are not.
    pub fn missing(&self) -> impl Iterator<Item = &Record> {
        let all = self.cnmt.records.iter().zip(&self.files);
        all.filter(|(record, file)| file.is_none() && !record.may_be_missing()).map(|(record, _)| record)
    }
}

/// Everything that a package holds.
#[derive(Clone)]
pub struct Contents {
    /// Its files, in its own order.
    pub files: Vec<Held>,
    /// Its titles: bases, then updates, then add-ons, each by id and version.
    pub titles: Vec<Title>,
    /// Lists of contents that cannot be read: the file, and why.
    pub failed: Vec<(usize, String)>,
    /// Tickets: the file, and what is in it or why that cannot be read.
    pub tickets: Vec<(usize, std::result::Result<Ticket, String>)>,
    /// The user's keys, and the title keys of the tickets.
    pub keys: Keyring,
    /// The key without which lists of contents cannot be read.
    pub trouble: Option<KeyTrouble>,
}

impl Contents {
    /// Reads what there is to know of a package's files.
    ///
    /// # Errors
    /// What the machine is to blame for; everything else is a state.
    pub fn read(files: Vec<Held>, keys: &Keyring) -> Result<Self> {
        let mut own = Self {
            files,
            titles: Vec::new(),
            failed: Vec::new(),
            tickets: Vec::new(),
            keys: Keyring::default(),
            trouble: None,
        };
        // What stands in a ticket is of this very package: it goes before lists.
        for index in 0..own.files.len() {
            let file = &own.files[index];
            if has_extension(&file.name, "tik") {
                let ticket = kept(
                    read_vec(file.source.as_ref(), 0, file.source.len(), "a ticket", ticket::MOST)
                        .and_then(|b| Ticket::parse(&b)),
                )?;
                if let Some((ticket, key)) = ticket.as_ref().ok().and_then(|t| Some((t, t.title_key()?))) {
                    own.keys.add(hex(&ticket.rights_id), key.clone(), format!("the ticket {}", file.name));
                }
                own.tickets.push((index, ticket));
            }
        }
        own.keys.append(keys);
        own.keys.given = keys.given.clone();
        let metas: Vec<usize> = own.metas()?;
        for index in metas {
            match own.title(index) {
                Ok(title) => own.titles.push(title),
                Err(Error::Key(trouble)) => {
                    own.failed.push((index, trouble.to_string()));
                    own.trouble.get_or_insert(trouble);
                }
                Err(e @ (Error::Io { .. } | Error::Cancelled)) => return Err(e),
                Err(e) => own.failed.push((index, e.to_string())),
            }
        }
        own.titles.sort_by_key(|t| (t.cnmt.kind, t.cnmt.title_id, t.cnmt.version));
        Ok(own)
    }

    /// The files with lists of contents: by their names, or by their headers where no name says so.
    fn metas(&self) -> Result<Vec<usize>> {
        let named = |(_, file): &(usize, &Held)| file.name.to_ascii_lowercase().ends_with(META);
        let all: Vec<usize> = self.files.iter().enumerate().filter(named).map(|(index, _)| index).collect();
        if !all.is_empty() {
            return Ok(all);
        }
        let mut found = Vec::new();
        for (index, file) in self.files.iter().enumerate().filter(|(_, f)| has_extension(&f.name, "nca")) {
            let header = kept(header::Header::read(file.source.as_ref(), &self.keys, &file.name))?;
            if header.is_ok_and(|h| h.kind() == NcaKind::Meta) {
                found.push(index);
            }
        }
        Ok(found)
    }

    fn title(&self, index: usize) -> Result<Title> {
        let held = &self.files[index];
        if held.missing() > 0 {
            let (missing, len) = (held.missing(), held.len());
            return Err(Error::Unreadable { why: format!("it is cut off: {missing} of its {len} bytes are missing") });
        }
        let nca = self.nca(index)?;
        if let Some(trouble) = nca.trouble() {
            return Err(trouble.clone().into());
        }
        let found = nca.small_file(&|path| path.ends_with(".cnmt"), cnmt::MOST)?;
        let [(_, raw)] = <[_; 1]>::try_from(found)
            .map_err(|all| Error::malformed(cnmt::ID, format!("{} lists in a content that holds one", all.len()), 0))?;
        let cnmt = Cnmt::parse(raw)?;
        let by_name: HashMap<String, usize> =
            self.files.iter().enumerate().map(|(index, f)| (f.name.to_ascii_lowercase(), index)).collect();
        let files = cnmt.records.iter().map(|r| by_name.get(&r.file_name()).copied()).collect();
        Ok(Title { cnmt, meta: index, files })
    }

    /// Opens the content in a file.
    ///
    /// # Errors
    /// As [`Nca::read`].
    pub fn nca(&self, index: usize) -> Result<Nca> {
        let file = &self.files[index];
        Nca::read(&file.source, &self.keys, &file.name)
    }

    /// The title whose base this one goes with, in the same package.
    pub fn base_of(&self, title: &Title) -> Option<&Title> {
        let base = title.cnmt.base_id();
        self.titles.iter().find(|t| t.cnmt.kind == Kind::Base && t.cnmt.title_id == base)
    }

    /// The content of a base that the content `record` of an update stands over.
    ///
    /// # Errors
    /// As [`Contents::nca`].
    pub fn base_content(&self, base: &Title, record: &Record) -> Result<Option<Nca>> {
        let all = base.cnmt.records.iter().zip(&base.files);
        let same = all.filter(|(r, _)| r.role == record.role && r.offset == record.offset).find_map(|(_, file)| *file);
        same.map(|index| self.nca(index)).transpose()
    }

    /// The same, in this package or in one of `others`.
    ///
    /// # Errors
    /// As [`Contents::nca`].
    fn base_content_among(&self, title: &Title, record: &Record, others: &[Self]) -> Result<Option<Nca>> {
        for contents in std::iter::once(self).chain(others) {
            let found = contents.base_of(title).map(|base| contents.base_content(base, record)).transpose()?;
            if let Some(nca) = found.flatten() {
                return Ok(Some(nca));
            }
        }
        Ok(None)
    }

    /// Files that are neither listed nor lists, tickets or certificates.
    pub fn strays(&self) -> Vec<&Held> {
        let listed = |index: usize| self.titles.iter().any(|t| t.meta == index || t.files.contains(&Some(index)));
        let known = |name: &str| ["tik", "cert", "xml", "jpg"].iter().any(|e| has_extension(name, e));
        let failed = |index: usize| self.failed.iter().any(|(f, _)| *f == index);
        let all = self.files.iter().enumerate();
        all.filter(|(index, f)| !listed(*index) && !known(&f.name) && !failed(*index)).map(|(_, f)| f).collect()
    }

    /// The files of all titles under names that people can read, below folders for what they are. `others` may hold the
    /// bases of updates.
    ///
    /// # Errors
    /// What the machine is to blame for; what cannot be read is a broken file with the reason.
    pub fn readable(&self, others: &[Self], notices: &mut Vec<String>) -> Result<Vec<Node>> {
        let mut nodes = Vec::new();
        for title in &self.titles {
            let folder = self.short(title);
            nodes.push(Node::new(folder.clone(), NodeKind::Folder, None));
            for (record, file) in title.cnmt.records.iter().zip(&title.files) {
                let Some(index) = file else { continue };
                if record.role == Role::Delta {
                    continue;
                }
                // A program's parts stand in the title's folder itself.
                let name = match (record.role, record.offset) {
                    (Role::Program, 0) => String::new(),
                    (role, 0) => format!("/{}", role.folder()),
                    (role, n) => format!("/{} {}", role.folder(), n + 1),
                };
                let place = format!("{folder}{name}");
                if !name.is_empty() {
                    nodes.push(Node::new(place.clone(), NodeKind::Folder, None));
                }
                match self.files_of(title, record, *index, &place, others, notices) {
                    Ok(more) => nodes.extend(more),
                    Err(e @ (Error::Io { .. } | Error::Cancelled)) => return Err(e),
                    Err(e) => {
                        let file =
                            File::broken(record.len, format!("{} cannot be looked into: {e}", self.files[*index].name));
                        nodes.push(Node::new(format!("{place}/content"), NodeKind::File(file), None));
                    }
                }
            }
        }
        Ok(nodes)
    }

    fn files_of(
        &self,
        title: &Title,
        record: &Record,
        index: usize,
        place: &str,
        others: &[Self],
        notices: &mut Vec<String>,
    ) -> Result<Vec<Node>> {
        let nca = self.nca(index)?;
        let is_over = nca.sections.iter().any(|s| s.patch.is_some());
        let base = if is_over { self.base_content_among(title, record, others)? } else { None };
        let mut nodes = nca.nodes(&format!("{place}/"), base.as_ref(), notices)?;
        // Control data has nothing but its RomFS: that needs no folder of its own.
        if record.role != Role::Program {
            let inner = format!("{place}/romfs/");
            nodes.retain(|n| n.path != format!("{place}/romfs") || n.file().is_some());
            for node in &mut nodes {
                if let Some(rest) = node.path.strip_prefix(&inner) {
                    node.path = format!("{place}/{rest}");
                }
            }
        }
        Ok(nodes)
    }

    /// What a title is called among the others here, as short as that can be: its folder is called so too.
    pub fn short(&self, title: &Title) -> String {
        let same = |t: &&Title| t.cnmt.kind == title.cnmt.kind;
        let (id, version) = (title::shown(title.cnmt.title_id), title.cnmt.version);
        match title.cnmt.kind {
            Kind::AddOn => format!("add-on {}", title::number(title.cnmt.title_id)),
            kind if self.titles.iter().filter(same).count() == 1 => kind.name().to_owned(),
            kind => format!("{} {id} v{version}", kind.name()),
        }
    }

    /// What headers say of each other: lists and what they list, lists and their ids, tickets and what needs them.
    ///
    /// # Errors
    /// What the machine is to blame for.
    pub fn settled(&self) -> Result<Vec<Settled>> {
        let mut all = Vec::new();
        for (index, why) in self.failed.iter().filter(|_| self.trouble.is_none()) {
            let name = format!("the list of contents {}", self.files[*index].name);
            all.push(Settled::fails(name, why, INSTALL));
        }
        for title in &self.titles {
            all.push(self.settled_list(title));
            let mut faults = Vec::new();
            for (record, file) in title.cnmt.records.iter().zip(&title.files) {
                let Some(index) = file else { continue };
                let held = &self.files[*index];
                if held.len() != record.len {
                    faults.push(format!(
                        "{} ({}) has {} bytes, the list says {}",
                        held.name,
                        record.name(),
                        held.len(),
                        record.len
                    ));
                }
            }
            for record in title.cnmt.records.iter().filter(|r| r.hash[..16] != r.id) {
                let (name, hash) = (record.file_name(), hex(&record.hash[..16]));
                faults.push(format!("the record of {name} ({}) has a SHA-256 that begins with {hash}", record.name()));
            }
            for record in title.missing() {
                faults.push(format!("{} ({}) is listed and not there", record.file_name(), record.name()));
            }
            all.push(Settled::of(format!("{}: contents are those listed", self.short(title)), &faults, INSTALL));
            all.extend(self.settled_contents(title)?);
        }
        const STARTS: &str = "without it nothing under its title key starts";
        for (index, ticket) in &self.tickets {
            let file = &self.files[*index].name;
            let name = format!("the ticket {file}");
            all.push(match ticket {
                Err(why) => Settled::fails(name, why, STARTS),
                Ok(ticket) if !file.to_ascii_lowercase().starts_with(&hex(&ticket.rights_id)) => {
                    Settled::fails(name, format!("it is for other rights: {}", hex(&ticket.rights_id)), STARTS)
                }
                Ok(_) => Settled::holds(format!("{name} is for the rights that it is called after")),
            });
        }
        Ok(all)
    }

    /// A list of contents has the id that its own SHA-256 begins with.
    fn settled_list(&self, title: &Title) -> Settled {
        let held = &self.files[title.meta];
        let name = format!("{}: its list of contents, by its id", self.short(title));
        let id = held.name.to_ascii_lowercase();
        let Some(id) = id.strip_suffix(META).filter(|id| id.len() == 32) else {
            return Settled::fails(name, format!("{} is not called after an id", held.name), INSTALL);
        };
        match read_vec(held.source.as_ref(), 0, held.source.len(), "a list of contents", cnmt::MOST) {
            Ok(bytes) if hex(&super::sha256(&bytes)[..16]) == id => Settled::holds(name).by_digests(),
            Ok(_) => {
                Settled::fails(name, format!("the SHA-256 of {} does not begin with its name", held.name), INSTALL)
                    .by_digests()
            }
            Err(e) => Settled::fails(name, e.to_string(), INSTALL),
        }
    }

    /// Headers of contents: hashes of their sections' headers, the title that they say, the rights that they need.
    fn settled_contents(&self, title: &Title) -> Result<Vec<Settled>> {
        let mut all = Vec::new();
        let (mut heads, mut ids, mut rights) = (Vec::new(), Vec::new(), Vec::new());
        for (record, file) in title.cnmt.records.iter().zip(&title.files) {
            let Some(index) = file else { continue };
            let name = &self.files[*index].name;
            let nca = match kept_key(self.nca(*index))? {
                Some(Ok(nca)) => nca,
                Some(Err(why)) => {
                    heads.push(format!("{name} ({}): {why}", record.name()));
                    continue;
                }
                None => continue,
            };
            for section in nca.sections.iter().filter(|s| !s.head_holds) {
                heads.push(format!("{name}: the header of section {} does not have its hash", section.index));
            }
            if !record.role.fits(nca.header.kind()) {
                ids.push(format!(
                    "{name} is listed as {}, and holds a {}",
                    record.role.name(),
                    nca.header.kind().name()
                ));
            }
            let base = title::base_of(nca.header.program_id());
            if base != title.cnmt.base_id() && title::base_of(title.cnmt.title_id) == title.cnmt.base_id() {
                ids.push(format!("{name} says that it is of {}", title::shown(nca.header.program_id())));
            }
            if let Some(id) = nca.header.rights_id() {
                let is_there = self.tickets.iter().any(|(_, t)| t.as_ref().is_ok_and(|t| t.rights_id == id));
                if !is_there {
                    rights.push(format!("{name} needs a ticket for {}, which is not there", hex(&id)));
                }
            }
        }
        const STARTS: &str = "it does not start where it is installed: get a whole copy";
        all.push(Settled::of(format!("{}: headers of contents", self.short(title)), &heads, STARTS));
        all.push(Settled::of(format!("{}: contents say that they are of it", self.short(title)), &ids, STARTS));
        // Who has the title key in a list can do without the ticket.
        if !rights.is_empty() {
            all.push(Settled::fails(format!("{}: tickets", self.short(title)), rights[0].clone(), STARTS));
        }
        Ok(all)
    }

    /// Bytes that the package says it has in its files.
    pub fn total(&self) -> u64 {
        self.files.iter().map(Held::len).sum()
    }
}

/// Whether a name ends in `.extension`, whatever its case.
pub fn has_extension(name: &str, extension: &str) -> bool {
    name.rsplit_once('.').is_some_and(|(_, e)| e.eq_ignore_ascii_case(extension))
}

/// What came of reading; what the source is to blame for in words.
fn kept<T>(result: Result<T>) -> Result<std::result::Result<T, String>> {
    match result {
        Ok(value) => Ok(Ok(value)),
        Err(e @ (Error::Io { .. } | Error::Cancelled)) => Err(e),
        Err(e) => Ok(Err(e.to_string())),
    }
}

/// The same, where a key that is missing is no fault.
fn kept_key<T>(result: Result<T>) -> Result<Option<std::result::Result<T, String>>> {
    match result {
        Err(Error::Key(_)) => Ok(None),
        result => kept(result).map(Some),
    }
}

/// The raw files as nodes.
pub fn raw_nodes(files: &[Held], prefix: &str) -> Vec<Node> {
    let node = |held: &Held| {
        let content = match held.missing() {
            0 => NodeContent::Whole(held.source.clone()),
            missing => NodeContent::Cut { missing },
        };
        let file = File { len: held.len(), spans: Vec::new(), content };
        Node::new(format!("{prefix}{}", held.name), NodeKind::File(file), None)
    };
    files.iter().map(node).collect()
}

/// The digests of a package, as far as they can be tried.
#[derive(Default)]
pub struct Digests {
    /// Each content against its record, and against the hashes that it carries itself.
    pub sealed: Vec<Sealed>,
    /// What cannot be tried, and is a fault.
    pub faults: Vec<Settled>,
    /// Contents whose hashes are over a base that is not there, and that base.
    pub without_base: Vec<(String, u64)>,
}

/// The digests of all contents; those of updates over their bases too, where these are in the same package or in one of
/// `others`.
///
/// # Errors
/// What the machine is to blame for.
pub fn digests(contents: &Contents, others: &[Contents]) -> Result<Digests> {
    let mut own = Digests::default();
    for title in &contents.titles {
        for (record, file) in title.cnmt.records.iter().zip(&title.files) {
            let Some(index) = file else { continue };
            let held = &contents.files[*index];
            let name = format!("{} {}", contents.short(title), record.name());
            let Some(Ok(nca)) = kept_key(contents.nca(*index))? else {
                // What cannot be opened still has the digest of its record.
                own.sealed.push(whole(held, record, name));
                continue;
            };
            let mut sealed = nca.sealed(&name, None);
            sealed.source = held.source.clone();
            sealed.seals.insert(0, seal_of_whole(held, record));
            own.sealed.push(sealed);
            if nca.trouble().is_some() || !nca.sections.iter().any(|s| s.patch.is_some()) {
                continue;
            }
            let base = contents.base_content_among(title, record, others);
            match kept_key(base.and_then(|base| base.map(|b| nca.sealed_over(&name, &b)).transpose()))? {
                Some(Ok(Some(more))) => own.sealed.extend(more),
                Some(Ok(None)) => own.without_base.push((name, title.cnmt.base_id())),
                Some(Err(why)) => own.faults.push(Settled::fails(format!("{name} over its base"), why, INSTALL)),
                None => {}
            }
        }
    }
    Ok(own)
}

/// The digest of a content by its record.
fn seal_of_whole(held: &Held, record: &Record) -> Seal {
    let (file, len) = (held.name.clone(), record.len);
    Seal {
        name: "the content as a whole".into(),
        range: 0..len,
        of_plaintext: false,
        expected: Expected::Digest(super::digest(&record.hash)),
        matters: INSTALL,
        inside: Some(Arc::new(move || vec![(0..len, file.clone())])),
    }
}

/// The digest of a content's record alone.
fn whole(held: &Held, record: &Record, name: String) -> Sealed {
    let (transform, locked, trouble, examine) = (None, Vec::new(), None, None);
    let seals = vec![seal_of_whole(held, record)];
    Sealed { name, source: held.source.clone(), transform, locked, trouble, seals, examine }
}

/// Whether a content is under a title key, and which generation of keys it needs: "generation 5, title key".
pub fn crypto(nca: &Nca) -> String {
    let generation = nca.header.generation();
    let coded = nca.sections.iter().any(|s| s.cipher.needs_key());
    match (coded, nca.header.rights_id()) {
        (false, _) => "not encrypted".into(),
        (true, Some(_)) => format!("generation {generation}, title-key crypto"),
        (true, None) => format!("generation {generation}, standard crypto"),
    }
}
