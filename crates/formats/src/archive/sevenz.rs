//! 7z archives. Headers and methods are read by the `sevenz-rust2` crate; entries are views that go forward through
//! their block, so that a solid archive whose entries are read in order is unpacked once; small blocks stay in memory. docs/formats/7z.md.

use decanter_core::error::Blame;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Reader, Source, SourceRef, check_range, read_vec};
use decanter_core::tree::{Content, File, Kind, Node, Tree};
use decanter_core::view::{Checked, MOST_HELD};
use decanter_core::{Error, Result, watch};
use sevenz_rust2::{Archive, BlockDecoder, Password};
use std::io::Read;
use std::sync::mpsc::{Receiver, sync_channel};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

const ID: &str = "7z";
const MAGIC: [u8; 6] = *b"7z\xbc\xaf\x27\x1c";
/// Memory that a header or a method's dictionary may ask for, in KiB.
const MOST_MEMORY_KIB: usize = 256 << 10;
/// Unpacked bytes that are passed on at once, and how many such pieces may wait.
const PIECE: usize = 256 << 10;
const WAITING: usize = 4;

/// The format.
pub struct SevenZ;

impl Format for SevenZ {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "7z archive"
    }

    fn role(&self) -> Role {
        Role::Archive
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["7z"]
    }

    fn reads(&self) -> &'static str {
        "LZMA, LZMA2, PPMd, bzip2, deflate, filters, solid or not; an image inside is read in place"
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(&MAGIC)] }
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok((source.len() >= 32).then_some(80))
    }

    fn open(&self, source: SourceRef, _opener: &Opener<'_>) -> Result<Opened> {
        let mut reader = Reader::new(source.clone(), 0);
        let mut archive = Archive::read_with_memory_limit(&mut reader, &Password::empty(), MOST_MEMORY_KIB)
            .map_err(|e| told(&e, 0))?;
        let sums: Vec<Option<u32>> = archive.files.iter().map(|f| f.has_crc.then_some(f.crc as u32)).collect();
        // Each entry is held against its CRC by the view on it: one that does not hold must not end its whole block.
        archive.files.iter_mut().for_each(|f| f.has_crc = false);
        let archive: Arc<Archive> = Arc::new(archive);
        let keeper = Arc::new(Keeper::default());
        let block = |index: usize| {
            let (archive, source, keeper) = (archive.clone(), source.clone(), keeper.clone());
            let is_kept = archive.blocks[index].get_unpack_size() <= MOST_HELD;
            Arc::new(Block { archive, source, index, is_kept, keeper, going: Mutex::default(), torn: OnceLock::new() })
        };
        let blocks: Vec<Arc<Block>> = (0..archive.blocks.len()).map(block).collect();
        let mut starts = vec![0u64; blocks.len()];
        let mut opened = Opened::new(ID, if archive.is_solid { "7z archive, solid" } else { "7z archive" });
        let mut tree = Tree::default();
        for (index, entry) in archive.files.iter().enumerate().filter(|(_, e)| !e.is_anti_item) {
            let path = entry.name.replace('\\', "/").trim_matches('/').to_owned();
            let modified = entry.has_last_modified_date.then(|| seconds(u64::from(entry.last_modified_date)));
            let place = archive.stream_map.file_block_index.get(index).copied().flatten();
            let kind = match place.filter(|_| entry.has_stream) {
                _ if entry.is_directory => Kind::Folder,
                None => Kind::File(File {
                    len: 0,
                    spans: Vec::new(),
                    content: Content::Whole(Arc::new(decanter_core::source::Bytes(Vec::new()))),
                }),
                Some(number) => {
                    let start = starts[number];
                    let end = start.checked_add(entry.size);
                    starts[number] =
                        end.ok_or(Error::Limit { what: "the block of an entry", asked: u64::MAX, limit: u64::MAX })?;
                    let view = Arc::new(Entry { block: blocks[number].clone(), start, len: entry.size });
                    let name = format!("the entry \"{}\"", entry.name);
                    let content: SourceRef = match sums[index] {
                        Some(crc) => Arc::new(Checked::new(view, crc, name)),
                        None => view,
                    };
                    let is_link = entry.has_windows_attributes && entry.windows_attributes >> 28 == 0xa;
                    match is_link && blocks[number].is_kept {
                        true => link(&content),
                        false => Kind::File(File::of(content)),
                    }
                }
            };
            tree.nodes.push(Node::new(path, kind, modified));
        }
        opened.fact("entries", tree.nodes.len().to_string());
        opened.holds.tree = Some(tree);
        Ok(opened)
    }
}

/// Seconds since 1970 of a time in units of 100 ns since 1601.
fn seconds(time: u64) -> i64 {
    (time / 10_000_000) as i64 - 11_644_473_600
}

/// A symbolic link, as Unix has them: its content is where it leads.
fn link(content: &SourceRef) -> Kind {
    match read_vec(content.as_ref(), 0, content.len(), "where a link leads", 4096) {
        Ok(target) => Kind::Link(String::from_utf8_lossy(&target).into_owned()),
        Err(e) => Kind::File(File::broken(content.len(), format!("it is a link that cannot be read: {e}"))),
    }
}

/// The one block of an archive whose unpacked bytes are kept: the next one takes its place.
#[derive(Default)]
struct Keeper(Mutex<Option<std::sync::Weak<Block>>>);

impl Keeper {
    /// Lets go of what is kept of another block.
    fn take(&self, block: &Arc<Block>) {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let other = kept.replace(Arc::downgrade(block)).and_then(|k| k.upgrade());
        // Whoever reads it now has it locked, and keeps what it needs.
        if let Some(other) = other.filter(|o| !Arc::ptr_eq(o, block))
            && let Ok(mut going) = other.going.try_lock()
        {
            *going = Going::default();
        }
    }
}

/// What was packed together.
struct Block {
    archive: Arc<Archive>,
    source: SourceRef,
    index: usize,
    /// Whether it is small enough to stay in memory: then it is unpacked once, in whatever order it is read.
    is_kept: bool,
    keeper: Arc<Keeper>,
    going: Mutex<Going>,
    /// Where unpacking has failed, and why: nobody gets any further, however often it is tried.
    torn: OnceLock<(u64, String)>,
}

/// How far unpacking has come.
#[derive(Default)]
struct Going {
    pieces: Option<Receiver<Result<Vec<u8>>>>,
    /// The last piece, or all pieces of a block that is kept; and where that begins in the block.
    piece: Vec<u8>,
    at: u64,
}

/// One entry: a stretch of an unpacked block.
struct Entry {
    block: Arc<Block>,
    start: u64,
    len: u64,
}

impl Source for Entry {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        self.block.read(self.start + offset, buf)
    }

    fn prefers_sequential(&self) -> bool {
        true
    }
}

impl Block {
    fn read(self: &Arc<Self>, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        let end = offset + buf.len() as u64;
        if let Some((_, why)) = self.torn.get().filter(|(at, _)| end > *at) {
            return Err(Error::Unreadable { why: why.clone() });
        }
        if self.is_kept {
            self.keeper.take(self);
        }
        let mut going = self.going.lock().unwrap_or_else(|e| e.into_inner());
        while !buf.is_empty() {
            watch::going_on()?;
            let end = going.at + going.piece.len() as u64;
            if (going.at..end).contains(&offset) {
                let from = (offset - going.at) as usize;
                let len = buf.len().min(going.piece.len() - from);
                let (now, later) = buf.split_at_mut(len);
                now.copy_from_slice(&going.piece[from..from + len]);
                offset += len as u64;
                buf = later;
                continue;
            }
            if offset < going.at || going.pieces.is_none() {
                *going = Going { pieces: Some(self.unpack()), ..Going::default() };
            }
            let next = going.pieces.as_ref().and_then(|p| p.recv().ok());
            match next {
                Some(Ok(piece)) if self.is_kept => going.piece.extend_from_slice(&piece),
                Some(Ok(piece)) => {
                    going.at += going.piece.len() as u64;
                    going.piece = piece;
                }
                failed => {
                    let none = || Error::malformed(ID, "a block ends before its entries do", 0);
                    let e = failed.and_then(Result::err).unwrap_or_else(none);
                    if e.blame() == Blame::Source {
                        // Readers of what comes before still get it.
                        let _ = self.torn.set((going.at + going.piece.len() as u64, e.to_string()));
                        going.pieces = None;
                    } else {
                        *going = Going::default();
                    }
                    return Err(e);
                }
            }
        }
        Ok(())
    }

    /// Unpacks the block from its beginning on another thread, which ends when nobody wants more.
    fn unpack(&self) -> Receiver<Result<Vec<u8>>> {
        let (sender, receiver) = sync_channel(WAITING);
        let (archive, source, index) = (self.archive.clone(), self.source.clone(), self.index);
        std::thread::spawn(move || {
            let mut reader = Reader::new(source, 0);
            let password = Password::empty();
            let decoder =
                BlockDecoder::new_with_memory_limit(1, MOST_MEMORY_KIB, index, &archive, &password, &mut reader);
            let result = decoder.for_each_entries(&mut |entry, content| {
                let mut left = entry.size;
                while left > 0 {
                    let mut piece = Vec::new();
                    let read = content.take(left.min(PIECE as u64)).read_to_end(&mut piece);
                    left -= piece.len() as u64;
                    let is_over = piece.is_empty();
                    // What came before the damage is whole.
                    if !is_over && sender.send(Ok(piece)).is_err() {
                        return Ok(false);
                    }
                    if read? == 0 && is_over {
                        return Err(std::io::Error::from(std::io::ErrorKind::UnexpectedEof).into());
                    }
                }
                Ok(true)
            });
            if let Err(e) = result {
                // Whoever wanted the bytes may be gone.
                let _ = sender.send(Err(told(&e, index)));
            }
        });
        receiver
    }
}

/// The crate's error as one of ours.
fn told(error: &sevenz_rust2::Error, block: usize) -> Error {
    use sevenz_rust2::Error as E;
    let malformed = |what: String| Error::malformed(ID, what, 0);
    match error {
        E::PasswordRequired => Error::unsupported(ID, "an encrypted archive"),
        E::UnsupportedCompressionMethod(method) if method.starts_with("AES") => {
            Error::unsupported(ID, "an encrypted archive (unpack it with its password first)")
        }
        E::UnsupportedCompressionMethod(method) => Error::unsupported(ID, format!("the method {method}")),
        E::MaxMemLimited { max_kb, actaul_kb } => Error::Limit {
            what: "a dictionary or header",
            asked: *actaul_kb as u64 * 1024,
            limit: *max_kb as u64 * 1024,
        },
        E::ChecksumVerificationFailed => malformed(format!("a checksum in block {block} does not hold")),
        E::Io(e, _) => match e.get_ref().and_then(|inner| inner.downcast_ref::<Error>()) {
            Some(own) => malformed(own.to_string()),
            None => malformed(format!("block {block} cannot be unpacked ({e})")),
        },
        E::Other(what) | E::Unsupported(what) => malformed(format!("the archive cannot be read: {what}")),
        other => malformed(format!("the archive cannot be read ({other})")),
    }
}
