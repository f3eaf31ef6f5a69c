//! Packages of the fourth PlayStation generation. Layout, checks and what is not sure: docs/formats/ps4-pkg.md.

mod compose;
pub mod entry;
pub mod header;
pub mod keys;
pub mod pfs;
pub mod pfsc;
mod proof;
mod raw;
mod rsa;
mod tell;

pub use compose::{Making, compose};
pub use tell::{PARAMETERS, system};

use decanter_core::digest::Algorithm;
use decanter_core::error::{Blame, KeyTrouble};
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::keyring::Key;
use decanter_core::opened::{Opened, Region};
use decanter_core::protection::{KeyState, Protection, State};
use decanter_core::role::Role;
use decanter_core::seal::Settled;
use decanter_core::source::{Bytes, Source, SourceRef, read_vec};
use decanter_core::tree::{Content, File, Kind, Node, Tree};
use decanter_core::view::{Hashed, Locked, Slice};
use decanter_core::{Error, Result};
use header::{Entry, Header};
use keys::Access;
use pfs::key::Derivation;
use std::collections::HashSet;
use std::sync::Arc;

pub(crate) const ID: &str = "ps4-pkg";
const KEYS: &str = "a console makes others, and cannot read the image: make the package again";
/// Bytes of an entry that is encrypted: it is decrypted as a whole.
const MOST_ENTRY: u64 = 64 << 20;

/// The format.
pub struct Ps4Pkg;
/// The one instance.
pub static PACKAGE: Ps4Pkg = Ps4Pkg;

/// The digests of all entries, in the order of the table; `None` where there are none.
fn digests(source: &dyn Source, header: &Header) -> Result<Option<Vec<u8>>> {
    let wanted = header.entries.len() as u64 * 32;
    let Some(own) = header.entry(entry::DIGESTS).filter(|e| e.len() >= wanted) else { return Ok(None) };
    match own.at().saturating_add(wanted) <= source.len() {
        true => Ok(Some(read_vec(source, own.at(), wanted, "digests of entries", wanted)?)),
        false => Ok(None),
    }
}

/// What the entries are made into files with.
struct Entries<'a> {
    source: &'a SourceRef,
    access: &'a Access,
    digests: Option<Vec<u8>>,
    is_unchecked: bool,
}

impl Entries<'_> {
    /// The digest of an entry, unless nobody asks for it.
    fn digest(&self, index: usize) -> Option<&[u8]> {
        self.digests.as_ref().filter(|_| !self.is_unchecked)?.get(index * 32..index * 32 + 32)
    }

    /// The bytes of an entry that is not encrypted, none of which is handed on unless all of them have their digest.
    fn plain(&self, index: usize, own: &Entry) -> Result<SourceRef> {
        let len = own.len();
        let slice: SourceRef = Arc::new(Slice::new(self.source.clone(), own.at(), len)?);
        let Some(digest) = self.digest(index).filter(|_| len > 0).map(<[u8]>::to_vec) else { return Ok(slice) };
        let (at, what) = (own.at(), entry::told(own.id));
        let name = Arc::new(move |_| format!("{what} at {at:#x}"));
        Ok(Arc::new(Hashed::new(slice, len, len, Algorithm::Sha256, Arc::new(Bytes(digest)), name)?))
    }

    /// The bytes of an encrypted entry of `stored_len` bytes.
    fn decrypted(&self, index: usize, own: &Entry, stored_len: u64, key: &Key) -> Result<SourceRef> {
        let mut bytes = read_vec(self.source.as_ref(), own.at(), stored_len, "an entry", MOST_ENTRY)?;
        if let Some(digest) = self.digest(index).filter(|digest| !entry::has_digest(&bytes, own.len(), digest)) {
            return Err(Error::Checksum {
                what: format!("{} at {:#x}", entry::told(own.id), own.at()),
                expected: format!("SHA-256 {}", decanter_core::digest::hex(digest)),
                found: "another one".into(),
            });
        }
        keys::decrypt(&own.raw, key, &mut bytes)?;
        bytes.truncate(own.len() as usize);
        Ok(Arc::new(Bytes(bytes)))
    }

    /// An entry as a file.
    fn file(&self, index: usize, own: &Entry) -> Result<File> {
        let (at, len) = (own.at(), own.len());
        let spans = vec![at..at + len];
        let stored_len = own.stored_len();
        if at.saturating_add(stored_len) > self.source.len() {
            let missing = at.saturating_add(len).saturating_sub(self.source.len().max(at));
            return Ok(File { len, spans, content: Content::Cut { missing: missing.max(1) } });
        }
        let content = match (own.is_encrypted(), self.access.of(own)) {
            (false, _) => Content::Whole(self.plain(index, own)?),
            (true, None) => {
                let slice: SourceRef = Arc::new(Slice::new(self.source.clone(), at, len)?);
                Content::Locked(Arc::new(Locked::new(slice, Arc::new([0..len]), self.trouble())))
            }
            (true, Some(_)) if stored_len > MOST_ENTRY => {
                return Ok(File::broken(len, format!("an encrypted entry of {len} bytes is not read here")));
            }
            (true, Some(key)) => return Ok(File::of(self.decrypted(index, own, stored_len, key)?)),
        };
        Ok(File { len, spans, content })
    }

    fn trouble(&self) -> KeyTrouble {
        match &self.access.state {
            KeyState::Trouble(trouble) => trouble.clone(),
            // The image key opens no more than the image.
            _ => KeyTrouble {
                need: "the passcode of the package".into(),
                way: decanter_core::error::KeyWay::Passcode,
                wrong: Vec::new(),
                looked: Vec::new(),
            },
        }
    }

    /// All entries that are files.
    fn nodes(&self, header: &Header) -> Result<Vec<Node>> {
        let mut nodes = vec![Node::new(entry::FOLDER.into(), Kind::Folder, None)];
        let mut known = HashSet::new();
        for (index, own) in header.entries.iter().enumerate() {
            let Some(path) = own.path() else { continue };
            for (at, _) in path.match_indices('/').skip(1) {
                if known.insert(path[..at].to_owned()) {
                    nodes.push(Node::new(path[..at].to_owned(), Kind::Folder, None));
                }
            }
            let file = match self.file(index, own) {
                Ok(file) => file,
                Err(e) if e.blame() == Blame::Source => File::broken(own.len(), e.to_string()),
                Err(e) => return Err(e),
            };
            nodes.push(Node::new(path, Kind::File(file), None));
        }
        Ok(nodes)
    }
}

/// The files of the container, then those of the image; of two at one path the first.
fn joined(opened: &mut Opened, mut nodes: Vec<Node>, inner: Tree) {
    let taken: HashSet<String> = nodes.iter().map(|n| pfs::paths::folded(&n.path)).collect();
    let mut doubled = Vec::new();
    for node in inner.nodes {
        let is_folder = matches!(node.kind, Kind::Folder);
        match taken.contains(&pfs::paths::folded(&node.path)) {
            false => nodes.push(node),
            true if is_folder => {}
            true => doubled.push(node.path),
        }
    }
    if let Some(first) = doubled.first() {
        let what = match doubled.len() {
            1 => format!("{first} stands in the container and in the image"),
            n => format!("{first} and {} more files stand in the container and in the image", n - 1),
        };
        opened.notice(format!("{what}: that of the container is meant"));
    }
    opened.holds.tree = Some(Tree { nodes });
}

/// The image as a file, where the files in it are out of reach: whoever wants all of them is told.
fn with_image(opened: &mut Opened, file: File) {
    let tree = opened.holds.tree.get_or_insert_default();
    tree.nodes.push(Node::new(pfs::compose::INSIDE.into(), Kind::File(file), None));
}

/// Opens what stands in the image of a package: the one with the files, which may be packed once more.
fn inside(image: &Opened, opener: &Opener<'_>) -> Result<Opened> {
    let file = image.holds.tree.as_ref().and_then(|tree| tree.find(pfs::compose::INSIDE)).and_then(Node::file);
    let missing = || Error::Unreadable { why: format!("there is no {} in its image", pfs::compose::INSIDE) };
    let source = file.ok_or_else(missing)?.source()?.clone();
    let opener = opener.inside()?;
    let mut opened = opener.open(source)?;
    if opened.identity.role == Role::Wrapper
        && let Some((_, file)) = opened.holds.tree.as_ref().and_then(|tree| tree.files().next())
    {
        opened = opener.inside()?.open(file.source()?.clone())?;
    }
    match opened.holds.tree {
        Some(_) => Ok(opened),
        None => Err(Error::Unreadable { why: format!("{} holds no files", pfs::compose::INSIDE) }),
    }
}

/// Opens the image with its key, and takes over what is known of it and of what is in it.
///
/// # Errors
/// What something else than the package is to blame for.
fn open_image(
    opened: &mut Opened,
    header: &Header,
    access: &Access,
    image: &SourceRef,
    nodes: Vec<Node>,
    opener: &Opener<'_>,
) -> Result<()> {
    let found = pfs::open(image, access.image.as_ref(), opener).and_then(|mut image| {
        let wanted = if header.is_seeded() { Derivation::Seeded } else { Derivation::Plain };
        let found = image.get("keys").filter(|found| *found != wanted.words());
        let faults: Vec<String> =
            found.map(|found| format!("the header says {}, they are {found}", wanted.words())).into_iter().collect();
        opened.proof.settled.push(Settled::of("how the keys of the image are made", &faults, KEYS));
        let inner = inside(&image, opener);
        take_over(opened, &mut image, "image");
        inner
    });
    match found {
        Ok(mut inner) => {
            take_over(opened, &mut inner, "files");
            joined(opened, nodes, inner.holds.tree.take().unwrap_or_default());
        }
        Err(e) if matches!(e.blame(), Blame::Machine | Blame::Stopped) => return Err(e),
        Err(e) => {
            opened.damage(format!("the files of its image cannot be reached: {e}"));
            with_image(opened, File::broken(image.len(), e.to_string()));
        }
    }
    Ok(())
}

/// Takes over what is noticed of an image, and what proves it.
fn take_over(opened: &mut Opened, own: &mut Opened, of: &str) {
    own.told.notices.retain(|n| n.is_damage);
    opened.told.notices.append(&mut own.told.notices);
    own.proof.settled.iter_mut().for_each(|s| s.name = format!("{of}: {}", s.name));
    opened.proof.settled.append(&mut own.proof.settled);
    opened.proof.inspections.append(&mut own.proof.inspections);
    opened.proof.on_reading.append(&mut own.proof.on_reading);
}

impl Format for Ps4Pkg {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "PS4 package"
    }

    fn role(&self) -> Role {
        Role::Package
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["pkg"]
    }

    fn reads(&self) -> &'static str {
        "title, ids, versions, pictures; files in the image by passcode or image key; every digest and signature"
    }

    fn least_len(&self) -> u64 {
        header::LEN
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(&header::MAGIC)] }
    }

    fn score(&self, head: &Head<'_>) -> Result<Option<u8>> {
        Ok((head.len() >= header::LEN).then_some(90))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let header = Header::read(source.as_ref())?;
        let access = Access::find(source.as_ref(), &header, opener.keys())?;
        let mut opened = Opened::new(ID, tell::kind(&header));
        let entries = Entries {
            source: &source,
            access: &access,
            digests: digests(source.as_ref(), &header)?,
            is_unchecked: opener.is_unchecked(),
        };
        let nodes = entries.nodes(&header)?;
        opened.holds.tree = Some(Tree { nodes: nodes.clone() });
        let parameters = tell::tell(&mut opened, &header, &access, opener)?;
        opened.protection = Some(protection(&access));
        if let Some((at, len)) = header.image() {
            let there = source.len().saturating_sub(at).min(len);
            opened.extent.regions.push(Region { range: at..at + len, encrypted: true });
            let image: SourceRef = Arc::new(Slice::new(source.clone(), at.min(source.len()), there)?);
            if access.image.is_some() {
                open_image(&mut opened, &header, &access, &image, nodes, opener)?;
            } else {
                let locked = Locked::new(image.clone(), Arc::new([0..there]), entries.trouble());
                let content = Content::Locked(Arc::new(locked));
                with_image(&mut opened, File { len: there, spans: vec![at..at + there], content });
            }
        }
        proof::add(&mut opened, &header, &access, &source, parameters.as_ref())?;
        opened.extent.promised_len = Some(header.end());
        crate::package::trailing(&mut opened, &source, header.end());
        Ok(opened)
    }
}

fn protection(access: &Access) -> Protection {
    Protection {
        state: State::Encrypted,
        evidence: "the image of a package always is".into(),
        key: access.state.clone(),
        unseal: None,
        seal: None,
        has_clear_form: false,
        clear: None,
        clear_as_it_is: None,
    }
}
