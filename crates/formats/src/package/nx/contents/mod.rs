//! The titles in a package or a gamecard's partition: lists of contents, what they list, tickets. What holds them does not
//! matter here; names of files do, because they are the contents' ids.

mod proof;

pub use proof::{Digests, digests};

use crate::package::nx::cnmt::{Cnmt, Record, Role};
use crate::package::nx::keys::hex;
use crate::package::nx::nca::header::Kind as NcaKind;
use crate::package::nx::nca::{Nca, header};
use crate::package::nx::ticket::{self, Ticket};
use crate::package::nx::title::{self, Kind};
use decanter_core::error::KeyTrouble;
use decanter_core::keyring::Keyring;
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::tell::grouped;
use decanter_core::tree::{Content as NodeContent, File, Kind as NodeKind, Node};
use decanter_core::view::Slice;
use decanter_core::{Error, Result};
use std::collections::HashMap;
use std::ops::Range;
use std::sync::Arc;

/// What the file of a list of contents ends in.
pub const META: &str = ".cnmt.nca";

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

    /// Bytes of its contents that are there.
    pub fn bytes(&self) -> u64 {
        self.cnmt.records.iter().zip(&self.files).filter(|(_, f)| f.is_some()).map(|(r, _)| r.len).sum()
    }

    /// Contents that have to be there and are not.
    pub fn missing(&self) -> impl Iterator<Item = &Record> {
        let all = self.cnmt.records.iter().zip(&self.files);
        all.filter(|(record, file)| file.is_none() && !record.may_be_missing()).map(|(record, _)| record)
    }
}

/// Why a file is not opened as a content.
#[derive(Clone)]
enum Refused {
    /// The key of its header is missing or wrong.
    Key(KeyTrouble),
    /// It is damaged, or no content.
    Broken(String),
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
    /// What is in each file that is called a content, opened once.
    ncas: Vec<std::result::Result<Nca, Refused>>,
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
            ncas: Vec::new(),
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
        own.ncas = own.files.iter().map(|file| peek(file, &own.keys)).collect::<Result<_>>()?;
        for index in own.metas() {
            match own.title(index) {
                Ok(title) => own.titles.push(title),
                Err(Error::Key(trouble)) => {
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
    fn metas(&self) -> Vec<usize> {
        let all = || 0..self.files.len();
        let named: Vec<usize> = all().filter(|i| self.files[*i].name.to_ascii_lowercase().ends_with(META)).collect();
        match named.is_empty() {
            false => named,
            true => all().filter(|i| self.nca(*i).is_ok_and(|n| n.header.kind() == NcaKind::Meta)).collect(),
        }
    }

    fn title(&self, index: usize) -> Result<Title> {
        let held = &self.files[index];
        if held.missing() > 0 {
            let (missing, len) = (grouped(held.missing()), grouped(held.len()));
            return Err(Error::Unreadable { why: format!("it is cut off: {missing} of its {len} bytes are missing") });
        }
        let nca = self.nca(index)?;
        if let Some(trouble) = nca.trouble() {
            return Err(trouble.clone().into());
        }
        let cnmt = Cnmt::of(nca)?;
        let by_name: HashMap<String, usize> =
            self.files.iter().enumerate().map(|(index, f)| (f.name.to_ascii_lowercase(), index)).collect();
        let files = cnmt.records.iter().map(|r| by_name.get(&r.file_name()).copied()).collect();
        Ok(Title { cnmt, meta: index, files })
    }

    /// The content in a file.
    ///
    /// # Errors
    /// [`Error::Key`] where the key of its header is missing or wrong, [`Error::Unreadable`] for what is damaged or no
    /// content.
    pub fn nca(&self, index: usize) -> Result<&Nca> {
        match &self.ncas[index] {
            Ok(nca) => Ok(nca),
            Err(Refused::Key(trouble)) => Err(trouble.clone().into()),
            Err(Refused::Broken(why)) => Err(Error::Unreadable { why: why.clone() }),
        }
    }

    /// The content that the content `update` of an update stands over: in this package, or among `others`.
    fn base_of<'a>(&'a self, update: &Nca, others: &'a Bases) -> Option<&'a Nca> {
        self.ncas.iter().flatten().find(|nca| nca.is_base_of(update)).or_else(|| others.find(update))
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
    pub fn readable(&self, others: &Bases, notices: &mut Vec<String>) -> Result<Vec<Node>> {
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
                match self.files_of(record, *index, &place, others, notices) {
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
        record: &Record,
        index: usize,
        place: &str,
        others: &Bases,
        notices: &mut Vec<String>,
    ) -> Result<Vec<Node>> {
        let nca = self.nca(index)?;
        let mut nodes = nca.nodes(&format!("{place}/"), self.base_of(nca, others), notices)?;
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

/// Opens the content in a file, if it is called one.
fn peek(file: &Held, keys: &Keyring) -> Result<std::result::Result<Nca, Refused>> {
    if !has_extension(&file.name, "nca") {
        return Ok(Err(Refused::Broken("it is not called a content".into())));
    }
    match Nca::read(&file.source, keys, &file.name) {
        Err(Error::Key(trouble)) => Ok(Err(Refused::Key(trouble))),
        read => Ok(kept(read)?.map_err(Refused::Broken)),
    }
}

/// Contents that updates may stand over, out of the sources that were given with them.
#[derive(Default)]
pub struct Bases(Vec<Nca>);

impl Bases {
    /// Those in packages, gamecard images and contents that stand alone.
    ///
    /// # Errors
    /// [`Error::NotUnderstood`] for anything else, and what reading fails with.
    pub fn of(sources: &[SourceRef], keys: &Keyring) -> Result<Self> {
        let mut all = Vec::new();
        for source in sources {
            if header::is_content(source.as_ref(), keys)? {
                all.push(Nca::read(source, keys, "the base")?);
            } else {
                all.extend(crate::package::nx::open_contents(source, keys)?.ncas.into_iter().flatten());
            }
        }
        Ok(Self(all))
    }

    /// The one that the content `update` of an update stands over.
    pub fn find(&self, update: &Nca) -> Option<&Nca> {
        self.0.iter().find(|nca| nca.is_base_of(update))
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
