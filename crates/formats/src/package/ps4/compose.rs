//! New containers: of one's own making, with a passcode, deterministic.

use super::entry::{self, flags};
use super::header::{CODE_AT, DIGEST_AT, DIGESTS_AT, IMAGE_AT, MAGIC};
use super::keys::{self, Role};
use super::pfs::compose::{Form, Image, image};
use super::pfs::paths::folded;
use super::raw::{Digests, Entry, Head, ImagePart};
use crate::package::sha256;
use crate::record::sfo::Parameters;
use decanter_core::blueprint::Blueprint;
use decanter_core::digest::Algorithm;
use decanter_core::keyring::{Key, Keyring};
use decanter_core::source::read_vec;
use decanter_core::tree::{Kind, Node, Tree};
use decanter_core::watch::Watch;
use decanter_core::{Error, Result};
use std::sync::Arc;
use zerocopy::{FromZeros, IntoBytes};

/// Where the body begins.
const BODY_AT: u64 = 0x2000;
/// The image begins at a multiple.
const IMAGE_EDGE: u64 = 0x8_0000;
/// Entries begin at multiples.
const ENTRY_EDGE: u64 = 16;
/// Bytes of the general digests, and places in them.
const GENERAL_LEN: usize = 0x180;
const GENERAL: [(u32, usize); 4] = [(1 << 0, 0x20), (1 << 1, 0x40), (1 << 2, 0x60), (1 << 5, 0xc0)];
/// Parts of the container itself.
const SYSTEM_ENTRIES: u16 = 6;
/// What packages of one's own making have in these fields.
const FLAGS: u32 = 1;
const UNKNOWN_C: u32 = 0xf;
const DRM: u32 = 0xf;
const CONTENT_FLAGS: u32 = 0x0a00_0000;
const IMAGE_FLAGS: u64 = 0x8000_0000_0000_03cc;
const SIGNED_LEN: u32 = 0x1_0000;
const CACHE_LEN: u32 = 0xd_0000;
/// Bytes of all entries, which are hashed in memory.
const MOST_BODY: u64 = 64 << 20;

/// What a new package is.
pub struct Making<'a> {
    /// Its content id, 36 characters.
    pub content_id: String,
    /// The 32 characters that its keys are made of.
    pub passcode: [u8; keys::PASSCODE_LEN],
    /// How its image is kept.
    pub form: Form,
    /// The user's keys: those of the console are used where they are there.
    pub keys: &'a Keyring,
}

/// An entry on the way.
struct Part {
    id: u32,
    name: String,
    bytes: Vec<u8>,
}

/// Files that are entries, and the others.
fn apart(tree: &Tree) -> Result<(Vec<Part>, Vec<&Node>)> {
    let (mut parts, mut rest) = (Vec::new(), Vec::new());
    let mut total = 0;
    for node in &tree.nodes {
        let (Some(id), Some(file)) = (entry::id(&node.path), node.file()) else {
            rest.push(node);
            continue;
        };
        total += file.len;
        if total > MOST_BODY {
            let what = format!("more than {MOST_BODY} bytes of pictures and trophies in {}/", entry::FOLDER);
            return Err(Error::unsupported(super::ID, what));
        }
        let source = file.source()?;
        let bytes = read_vec(source.as_ref(), 0, source.len(), "a file", MOST_BODY)?;
        let name = entry::name(id).unwrap_or_default();
        parts.push(Part { id, name, bytes });
    }
    parts.sort_by_key(|p| p.id);
    prune(&mut rest);
    Ok((parts, rest))
}

/// Leaves folders out that held nothing but entries.
fn prune(nodes: &mut Vec<&Node>) {
    let own = folded(entry::FOLDER);
    let is_own = |path: &str| path == own || path.strip_prefix(&own).is_some_and(|rest| rest.starts_with('/'));
    let files = nodes.iter().filter(|n| n.file().is_some()).map(|n| folded(&n.path));
    let kept: Vec<String> = files.filter(|path| is_own(path)).collect();
    let holds = |folder: &str| kept.iter().any(|path| path.strip_prefix(folder).is_some_and(|r| r.starts_with('/')));
    nodes.retain(|node| {
        let path = folded(&node.path);
        !matches!(node.kind, Kind::Folder) || !is_own(&path) || holds(&path)
    });
}

/// A package with these files, its parameter file among them. All of them are read twice: once for their signatures, once when they are written.
///
/// # Errors
/// [`Error::Unsupported`] for what has no place in it; what reading fails with; [`Error::Cancelled`].
pub fn compose(tree: &Tree, making: &Making<'_>, watch: &dyn Watch) -> Result<Blueprint> {
    let mut wide = [0; 48];
    let id = making.content_id.as_bytes();
    if id.len() != 36 {
        return Err(Error::unsupported(super::ID, format!("a content id of {} bytes", id.len())));
    }
    wide[..36].copy_from_slice(id);
    let (files, rest) = apart(tree)?;
    let mut seed = [0; 16];
    seed.copy_from_slice(&sha256(&[&b"seed"[..], id].concat())[..16]);
    let key = keys::image_key(&wide, &making.passcode);
    let made = image(&rest, making.form, &key, seed, watch)?;
    let body = Body::of(files, &wide, making)?;
    finish(made, body, making)
}

/// The entries of a package, laid out.
struct Body {
    /// In the order of their ids: the record, and the bytes as they are stored.
    entries: Vec<(Entry, Vec<u8>)>,
    image_at: u64,
}

impl Body {
    fn of(files: Vec<Part>, wide: &[u8; 48], making: &Making<'_>) -> Result<Self> {
        let own = |id: u32, bytes: Vec<u8>| Part { id, name: String::new(), bytes };
        let mut names = vec![0];
        let mut name_at = vec![0; SYSTEM_ENTRIES as usize];
        for file in &files {
            name_at.push(names.len() as u32);
            names.extend(file.name.as_bytes());
            names.push(0);
        }
        let count = files.len() + SYSTEM_ENTRIES as usize;
        let mut parts = vec![
            own(entry::KEYS, keys::keys_entry(wide, &making.passcode, making.keys)?),
            own(entry::IMAGE_KEY, keys::image_key_entry(wide, &making.passcode, making.keys)?),
            own(entry::GENERAL, vec![0; GENERAL_LEN]),
            own(entry::TABLE, vec![0; count * size_of::<Entry>()]),
            own(entry::DIGESTS, vec![0; count * 32]),
            own(entry::NAMES, names),
        ];
        parts.extend(files);
        let (mut at, mut entries) = (BODY_AT, Vec::with_capacity(count));
        for (part, name_at) in parts.into_iter().zip(name_at) {
            let [flags, key] = flags(part.id);
            let record = Entry {
                id: part.id.into(),
                name_at: name_at.into(),
                flags: flags.into(),
                key: key.into(),
                at: (at as u32).into(),
                len: (part.bytes.len() as u32).into(),
                reserved: [0; 8],
            };
            at = (at + part.bytes.len() as u64).next_multiple_of(ENTRY_EDGE);
            entries.push((record, part.bytes));
        }
        entries.sort_by_key(|(record, _)| record.id.get());
        for (record, bytes) in entries.iter_mut().filter(|(record, _)| record.flags.get() & entry::ENCRYPTED != 0) {
            let key: Key = keys::derived(wide, &making.passcode, record.key.get() >> 12 & 0xf);
            keys::encrypt(record, &key, bytes)?;
        }
        Ok(Self { entries, image_at: at.next_multiple_of(IMAGE_EDGE) })
    }

    fn get(&self, id: u32) -> &[u8] {
        self.entries.iter().find(|(record, _)| record.id.get() == id).map_or(&[], |(_, bytes)| bytes)
    }

    fn at(&self, id: u32) -> u64 {
        self.entries.iter().find(|(record, _)| record.id.get() == id).map_or(0, |(record, _)| record.at.get().into())
    }

    fn set(&mut self, id: u32, bytes: Vec<u8>) {
        if let Some((_, own)) = self.entries.iter_mut().find(|(record, _)| record.id.get() == id) {
            *own = bytes;
        }
    }
}

/// What the header needs besides the body.
struct Front {
    content_id: [u8; 36],
    date: u32,
    image_len: u64,
    signed_digest: [u8; 32],
    parameters: [u8; 32],
    header_pair: Option<super::rsa::Pair>,
}

fn finish(made: Image, body: Body, making: &Making<'_>) -> Result<Blueprint> {
    let mut content_id = [0; 36];
    content_id.copy_from_slice(making.content_id.as_bytes());
    let front = Front {
        content_id,
        date: date(&Parameters::parse(body.get(entry::PARAMETERS))?),
        image_len: made.source.len(),
        signed_digest: sha256(&made.first_block[..SIGNED_LEN as usize]),
        parameters: sha256(body.get(entry::PARAMETERS)),
        header_pair: Role::Header.pair(making.keys),
    };
    let mut blueprint = Blueprint::new();
    let head = blueprint.late(body.image_at);
    let image = blueprint.source(made.source);
    blueprint.measure(image, Algorithm::Sha256);
    let body = Arc::new(body);
    let make = Arc::new(move |known: &decanter_core::blueprint::Known<'_>| {
        let mut digest = [0; 32];
        digest.copy_from_slice(known.digest(image, Algorithm::Sha256)?);
        Ok(front.bytes(&body, digest))
    });
    blueprint.compute(head, &[image], make)?;
    Ok(blueprint)
}

/// The date in the parameter file, as the header has it: 20261128 is 0x20261128.
fn date(parameters: &Parameters) -> u32 {
    let made = parameters.text("PUBTOOLINFO").unwrap_or_default();
    let date = made.split(',').find_map(|part| part.trim().strip_prefix("c_date="));
    date.filter(|d| d.len() == 8).and_then(|d| u32::from_str_radix(d, 16).ok()).unwrap_or(0)
}

impl Front {
    /// Everything before the image.
    fn bytes(&self, body: &Body, image_digest: [u8; 32]) -> Vec<u8> {
        let mut own = Body { entries: body.entries.clone(), image_at: body.image_at };
        let part = ImagePart {
            unknown: 1.into(),
            images: 1.into(),
            flags: IMAGE_FLAGS.into(),
            at: own.image_at.into(),
            len: self.image_len.into(),
            mount_at: 0.into(),
            mount_len: 0.into(),
            package_len: (own.image_at + self.image_len).into(),
            signed_len: SIGNED_LEN.into(),
            cache_len: CACHE_LEN.into(),
            digest: image_digest,
            signed_digest: self.signed_digest,
            split: [0.into(), 0.into()],
        };
        let head = self.head(&own);
        own.set(entry::GENERAL, self.general(&head, &part));
        let table: Vec<u8> = own.entries.iter().flat_map(|(record, _)| record.as_bytes().to_vec()).collect();
        own.set(entry::TABLE, table);
        let digests = own.entries.iter().flat_map(|(record, bytes)| match record.id.get() {
            entry::DIGESTS => [0; 32],
            _ => sha256(bytes),
        });
        own.set(entry::DIGESTS, digests.collect());

        let mut all = vec![0; own.image_at as usize];
        let mut put = |at: u64, bytes: &[u8]| all[at as usize..at as usize + bytes.len()].copy_from_slice(bytes);
        put(0, head.as_bytes());
        put(IMAGE_AT, part.as_bytes());
        own.entries.iter().for_each(|(record, bytes)| put(record.at.get().into(), bytes));
        let parts = [entry::KEYS, entry::IMAGE_KEY, entry::GENERAL].map(|id| own.get(id)).concat();
        let (table, digests) = (own.get(entry::TABLE), own.get(entry::DIGESTS));
        let first = &table[..size_of::<Entry>() * SYSTEM_ENTRIES as usize];
        let digests = Digests {
            system: sha256(&[&parts[..], table, digests].concat()),
            system_again: sha256(&[&parts[..], first].concat()),
            table: sha256(digests),
            body: sha256(&all[BODY_AT as usize..]),
        };
        let mut put = |at: u64, bytes: &[u8]| all[at as usize..at as usize + bytes.len()].copy_from_slice(bytes);
        put(DIGESTS_AT, digests.as_bytes());
        let digest = sha256(&all[..DIGEST_AT as usize]);
        all[DIGEST_AT as usize..CODE_AT as usize].copy_from_slice(&digest);
        if let Some(pair) = &self.header_pair {
            let code = pair.wrap(&sha256(&all[..CODE_AT as usize]));
            all[CODE_AT as usize..CODE_AT as usize + code.len()].copy_from_slice(&code);
        }
        all
    }

    fn head(&self, body: &Body) -> Head {
        let count = body.entries.len() as u32;
        let system = [entry::KEYS, entry::IMAGE_KEY, entry::GENERAL, entry::TABLE, entry::DIGESTS];
        let mut head = Head::new_zeroed();
        head.magic = MAGIC;
        head.flags.set(FLAGS);
        head.unknown_c.set(UNKNOWN_C);
        head.entries.set(count);
        head.system_entries.set(SYSTEM_ENTRIES);
        head.entries_again.set(count as u16);
        head.table_at.set(body.at(entry::TABLE) as u32);
        head.system_len.set(system.iter().map(|id| body.get(*id).len() as u32).sum());
        head.body_at.set(BODY_AT);
        head.body_len.set(body.image_at - BODY_AT);
        head.content_id = self.content_id;
        head.drm.set(DRM);
        head.content_type.set(0x1a);
        head.content_flags.set(CONTENT_FLAGS);
        head.date.set(self.date);
        head.drm_version.set(1);
        head
    }

    /// Digests of some parts: which of them are there, and those that are known how to make.
    fn general(&self, head: &Head, part: &ImagePart) -> Vec<u8> {
        let mut bytes = vec![0; GENERAL_LEN];
        let content = [&head.as_bytes()[0x40..0x78], &part.digest, &self.parameters].concat();
        let header = [&head.as_bytes()[..0x40], &part.as_bytes()[..0x80]].concat();
        let made = [sha256(&content), part.digest, sha256(&header), self.parameters];
        let mut which = 0;
        for ((bit, at), digest) in GENERAL.into_iter().zip(made) {
            which |= bit;
            bytes[at..at + 32].copy_from_slice(&digest);
        }
        bytes[4..8].copy_from_slice(&u32::to_be_bytes(which));
        bytes
    }
}
