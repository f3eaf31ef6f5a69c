//! New packages: header, table, names and files under a key stream, and the SHA-1 of all of it. One pass.

use super::ID;
use super::header::{self, DIGESTS, FINALIZED, LEN, MAGIC, PS3};
use super::items::{EDAT, ENTRY, FILE, FOLDER, MOST, PROGRAM, REPLACES, SDAT};
use super::proof::TRAILER;
use super::raw::{Digests, Entry, Head};
use super::stream::Stream;
use super::tell::PARAMETERS;
use crate::num::be32;
use crate::package::ps3::content_id;
use decanter_core::blueprint::Blueprint;
use decanter_core::digest::{Algorithm, Hasher, of_source};
use decanter_core::keyring::Key;
use decanter_core::source::{Bytes, SourceRef, read_vec};
use decanter_core::tree::{Kind, Node, Tree};
use decanter_core::view::{Concat, Fill};
use decanter_core::watch::Watch;
use decanter_core::{Error, Result};
use std::sync::Arc;
use zerocopy::{FromZeros, IntoBytes};

/// Names and files begin at multiples of this.
const ALIGN: u64 = 16;
/// The metadata packets that are written, and their bytes.
const PACKETS: u32 = 5;
const METADATA: u64 = 0x40;
/// DRM: none.
const FREE: u32 = 3;
/// Flags of the package, as games have them.
const FLAGS: u32 = 0x0e;
/// The data area begins here: header, metadata, and digests of each.
const DATA_AT: u64 = LEN + METADATA + DIGESTS;
/// Zeros between the data area and the SHA-1.
const GAP: u64 = 0x40;
/// The longest path.
const MOST_PATH: usize = 1024;
/// Flag of NPD-wrapped files that have no licence, and where the flags stand.
const IS_SDAT: u32 = 0x0100_0000;
const NPD_FLAGS_AT: usize = 0x80;
/// Parameter files have a few hundred bytes.
const MOST_PARAMETERS: u64 = 1 << 20;

/// What a new package is called and how it is closed.
pub struct Making {
    /// 36 characters.
    pub content_id: String,
    /// What it contains.
    pub content_type: u32,
    /// Version of the package: 0x0100 is 01.00.
    pub version: u16,
    /// For a finalized package: the key; else it becomes a debug package.
    pub key: Option<Key>,
}

/// A package of all files and folders of `tree`.
///
/// # Errors
/// [`Error::Unsupported`] for what the table has no place for, and what reading the first bytes of files fails with.
pub fn compose(tree: &Tree, making: &Making) -> Result<Blueprint> {
    let mut blueprint = Blueprint::new();
    let whole = blueprint.source(front(tree, making)?);
    blueprint.measure(whole, Algorithm::Sha1);
    let trailer = blueprint.late(TRAILER);
    blueprint.compute(trailer, &[whole], Arc::new(move |known| Ok(closed(known.digest(whole, Algorithm::Sha1)?))))?;
    Ok(blueprint)
}

/// The same with nothing that is computed late, so that it can be cut into parts: all files are read once for the SHA-1
/// at the end.
///
/// # Errors
/// As [`compose`].
pub fn compose_early(tree: &Tree, making: &Making, watch: &dyn Watch) -> Result<Blueprint> {
    let front = front(tree, making)?;
    let digest = of_source(&front, &[Algorithm::Sha1], watch)?;
    let mut blueprint = Blueprint::of(front);
    blueprint.source(Arc::new(Bytes(closed(&digest[0].bytes))));
    Ok(blueprint)
}

/// The last bytes: a SHA-1 and zeros.
fn closed(digest: &[u8]) -> Vec<u8> {
    let mut bytes = digest.to_vec();
    bytes.resize(TRAILER as usize, 0);
    bytes
}

/// Everything before the SHA-1.
fn front(tree: &Tree, making: &Making) -> Result<SourceRef> {
    if let Some(fault) = content_id::fault(&making.content_id) {
        return Err(Error::Usage(fault));
    }
    let laid = Laid::of(tree)?;
    let mut seed = Hasher::new(Algorithm::Sha1);
    seed.update(making.content_id.as_bytes());
    seed.update(&laid.table);
    if let Some(file) = tree.find(PARAMETERS).and_then(Node::file) {
        let source = file.source()?;
        seed.update(&read_vec(source.as_ref(), 0, source.len(), "a parameter file", MOST_PARAMETERS)?);
    }
    let seed = seed.finish().bytes;
    let (head, counter) = (laid.head(making, &seed)?, counter(&seed));
    let stream = match &making.key {
        Some(key) => Stream::Finalized { key: key.clone(), counter },
        None => Stream::Debug { seed: first16(&seed) },
    };
    let area = stream.over(laid.area()?)?;
    Ok(Arc::new(Concat::new(vec![Arc::new(Bytes(head)), area, Arc::new(Fill { byte: 0, len: GAP })])?))
}

fn first16(seed: &[u8]) -> [u8; 16] {
    std::array::from_fn(|i| seed[i])
}

fn counter(seed: &[u8]) -> [u8; 16] {
    std::array::from_fn(|i| seed[i + 4])
}

/// A data area that is laid out.
struct Laid {
    count: u32,
    /// Table and names, filled up.
    table: Vec<u8>,
    files: Vec<SourceRef>,
    len: u64,
}

impl Laid {
    fn of(tree: &Tree) -> Result<Self> {
        let mut nodes: Vec<&Node> = tree.nodes.iter().collect();
        nodes.sort_by(|a, b| a.path.as_bytes().cmp(b.path.as_bytes()));
        let count = nodes.len() as u64;
        if count > MOST {
            return Err(Error::Limit { what: "the items of a package", asked: count, limit: MOST });
        }
        let mut names: Vec<u8> = Vec::new();
        let mut places = Vec::new();
        for node in &nodes {
            if node.path.len() > MOST_PATH || node.path.chars().any(char::is_control) {
                return Err(Error::unsupported(ID, format!("the name \"{}\"", node.path)));
            }
            places.push(names.len());
            names.extend(node.path.as_bytes());
            names.resize(names.len().next_multiple_of(ALIGN as usize), 0);
        }
        let names_at = count * ENTRY;
        let mut at = names_at + names.len() as u64;
        let (mut table, mut files) = (Vec::with_capacity(at as usize), Vec::new());
        for (node, place) in nodes.iter().zip(places) {
            let mut entry = Entry::new_zeroed();
            entry.name_at.set((names_at + place as u64) as u32);
            entry.name_len.set(node.path.len() as u32);
            entry.data_at.set(at);
            let kind = match &node.kind {
                Kind::Folder => FOLDER,
                Kind::File(file) => {
                    let source = file.source()?.clone();
                    let kind = kind_of(&source)?;
                    entry.data_len.set(source.len());
                    at += source.len().next_multiple_of(ALIGN);
                    files.push(source);
                    kind
                }
                Kind::Link(_) => return Err(Error::unsupported(ID, format!("the link \"{}\"", node.path))),
            };
            entry.flags.set(REPLACES | kind);
            table.extend(entry.as_bytes());
        }
        table.extend(names);
        Ok(Self { count: count as u32, table, files, len: at })
    }

    /// The data area in the clear.
    fn area(self) -> Result<SourceRef> {
        let mut parts: Vec<SourceRef> = vec![Arc::new(Bytes(self.table))];
        for file in self.files {
            let fill = file.len().next_multiple_of(ALIGN) - file.len();
            parts.push(file);
            if fill > 0 {
                parts.push(Arc::new(Fill { byte: 0, len: fill }));
            }
        }
        Ok(Arc::new(Concat::new(parts)?))
    }

    /// Header and metadata, with their digests.
    fn head(&self, making: &Making, seed: &[u8]) -> Result<Vec<u8>> {
        let total = DATA_AT + self.len + GAP + TRAILER;
        let mut head = Head::new_zeroed();
        head.magic = MAGIC;
        head.revision.set(if making.key.is_some() { FINALIZED } else { 0 });
        head.platform.set(PS3);
        head.metadata_at.set(LEN as u32);
        head.packets.set(PACKETS);
        head.metadata_len.set((METADATA + DIGESTS) as u32);
        head.items.set(self.count);
        head.total_len.set(total);
        head.data_at.set(DATA_AT);
        head.data_len.set(self.len);
        head.content_id[..content_id::LEN].copy_from_slice(making.content_id.as_bytes());
        head.digest = first16(seed);
        head.counter = counter(seed);
        let mut metadata = Vec::new();
        let mut packet = |id: u32, value: &[u8]| {
            metadata.extend(id.to_be_bytes());
            metadata.extend((value.len() as u32).to_be_bytes());
            metadata.extend(value);
        };
        packet(1, &FREE.to_be_bytes());
        packet(2, &making.content_type.to_be_bytes());
        packet(3, &FLAGS.to_be_bytes());
        packet(4, &total.to_be_bytes());
        packet(5, &u32::from(making.version).to_be_bytes());
        let mut bytes = head.as_bytes()[..LEN as usize - size_of::<Digests>()].to_vec();
        bytes.extend(header::digests_of(&bytes, making.key.as_ref())?);
        let digests = header::digests_of(&metadata, making.key.as_ref())?;
        bytes.extend(metadata);
        bytes.extend(digests);
        Ok(bytes)
    }
}

/// What kind of item a file is, by what it begins with.
fn kind_of(source: &SourceRef) -> Result<u32> {
    let mut head = vec![0; source.len().min(NPD_FLAGS_AT as u64 + 4) as usize];
    source.read_at(0, &mut head)?;
    Ok(match head.get(..4) {
        Some(b"SCE\0") => PROGRAM,
        Some(b"NPD\0") if head.len() < NPD_FLAGS_AT + 4 => FILE,
        Some(b"NPD\0") if be32(&head, NPD_FLAGS_AT) & IS_SDAT != 0 => SDAT,
        Some(b"NPD\0") => EDAT,
        _ => FILE,
    })
}
