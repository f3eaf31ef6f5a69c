//! What a folder unpacks to, as a source: read forwards it costs one pass, read backwards it goes on from the nearest
//! checkpoint. Every block is held against its checksum whenever it is read.

use super::ID;
use super::header::Method;
use super::mszip::MsZip;
use crate::lzx::{FRAME, Lzx, Trouble};
use decanter_core::source::{Source, SourceRef, check_range};
use decanter_core::watch::{self, Watch};
use decanter_core::{Error, Result};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError, Weak};

/// Packed bytes that are read at once.
const INPUT: u64 = 512 << 10;
/// Bytes that checkpoints may take.
const MOST_KEPT: usize = 16 << 20;
/// Blocks between two checkpoints at first: 8 MiB.
const FIRST_SPACING: usize = 256;

/// A part of a data block, as it stands in one cabinet of a set.
#[derive(Clone)]
pub(super) struct Part {
    pub(super) source: SourceRef,
    /// What the cabinet is called, where it is not the one that was opened.
    pub(super) cabinet: Option<String>,
    /// Where its header begins.
    pub(super) at: u64,
    pub(super) data_at: u64,
    pub(super) sum: u32,
    pub(super) packed: u16,
    pub(super) unpacked: u16,
}

/// A data block: one part, or one from each cabinet over whose end it reaches.
pub(super) struct Block {
    pub(super) parts: Vec<Part>,
    /// Where what it gives begins.
    pub(super) start: u64,
    pub(super) len: usize,
}

/// A folder of one cabinet, or of those that it reaches over.
pub(super) struct Folder {
    method: Method,
    blocks: Vec<Block>,
    len: u64,
    state: Mutex<State>,
    keeper: Arc<Keeper>,
    /// Itself, for the keeper.
    own: Weak<Folder>,
}

/// The one folder of a set that keeps what it needs to go on: the next one takes its place.
#[derive(Default)]
pub(super) struct Keeper(Mutex<Weak<Folder>>);

impl Keeper {
    fn take(&self, folder: &Folder) {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if kept.ptr_eq(&folder.own) {
            return;
        }
        let other = std::mem::replace(&mut *kept, folder.own.clone()).upgrade();
        // Whoever reads it now has it locked, and lets go of it later.
        if let Some(other) = other
            && let Ok(mut state) = other.state.try_lock()
        {
            state.let_go();
        }
    }
}

struct State {
    /// Made when it is needed: its window takes memory.
    decoder: Option<Decoder>,
    /// The block that the decoder gives next.
    next: usize,
    /// The block that was given last, and its bytes.
    last: Option<usize>,
    frame: Vec<u8>,
    checkpoints: Vec<(usize, Decoder)>,
    spacing: usize,
    input: Input,
    /// Which blocks were held against their checksums.
    checked: Vec<bool>,
}

/// Packed bytes that were read ahead.
#[derive(Default)]
struct Input {
    of: Option<SourceRef>,
    at: u64,
    bytes: Vec<u8>,
}

enum Decoder {
    Stored,
    MsZip(MsZip),
    Lzx(Box<Lzx>),
}

impl Decoder {
    fn new(method: Method) -> Result<Self> {
        Ok(match method {
            Method::Stored => Self::Stored,
            Method::MsZip => Self::MsZip(MsZip::new()),
            Method::Lzx(bits) => Self::Lzx(Box::new(Lzx::new(bits))),
            other => return Err(Error::unsupported(ID, format!("{} compression", other.name()))),
        })
    }

    /// What is needed to go on from here.
    fn kept(&self) -> Self {
        match self {
            Self::Stored => Self::Stored,
            Self::MsZip(own) => Self::MsZip(own.clone()),
            Self::Lzx(own) => Self::Lzx(Box::new(own.kept())),
        }
    }

    fn again(&self) -> Self {
        match self {
            Self::Lzx(own) => Self::Lzx(Box::new(own.again())),
            other => other.kept(),
        }
    }

    fn frame(&mut self, packed: &[u8], out: &mut [u8]) -> std::result::Result<(), Trouble> {
        match self {
            Self::Stored if packed.len() == out.len() => {
                out.copy_from_slice(packed);
                Ok(())
            }
            Self::Stored => Err("it is stored, and has not as many bytes as it should give"),
            Self::MsZip(own) => own.frame(packed, out),
            Self::Lzx(own) => own.frame(packed, out),
        }
    }
}

impl Folder {
    /// A folder of these blocks.
    ///
    /// # Errors
    /// [`Error::Unsupported`] for how it is packed.
    pub(super) fn new(method: Method, blocks: Vec<Block>, keeper: &Arc<Keeper>) -> Result<Arc<Self>> {
        if matches!(method, Method::Quantum | Method::Unknown(_)) {
            return Err(Error::unsupported(ID, format!("{} compression", method.name())));
        }
        let len = blocks.last().map_or(0, |b| b.start + b.len as u64);
        let state = State {
            decoder: None,
            next: 0,
            last: None,
            frame: Vec::new(),
            checkpoints: Vec::new(),
            spacing: FIRST_SPACING,
            input: Input::default(),
            checked: vec![false; blocks.len()],
        };
        let (state, keeper) = (Mutex::new(state), keeper.clone());
        Ok(Arc::new_cyclic(|own| Self { method, blocks, len, state, keeper, own: own.clone() }))
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether all blocks of a stretch carry checksums.
    pub(super) fn is_checked(&self, offset: u64, len: u64) -> bool {
        self.blocks_of(offset, len).iter().all(|b| b.parts.iter().all(|p| p.sum != 0))
    }

    fn blocks_of(&self, offset: u64, len: u64) -> &[Block] {
        let first = self.blocks.partition_point(|b| b.start + b.len as u64 <= offset);
        let end = self.blocks.partition_point(|b| b.start < offset.saturating_add(len)).max(first);
        &self.blocks[first..end]
    }

    /// Holds the blocks of a stretch against their checksums, those that were not yet, without unpacking them.
    ///
    /// # Errors
    /// [`Error::Checksum`], and what reading fails with.
    pub(super) fn settle(&self, offset: u64, len: u64, watch: &dyn Watch) -> Result<()> {
        let first = self.blocks.partition_point(|b| b.start + b.len as u64 <= offset);
        let count = self.blocks_of(offset, len).len();
        let mut packed = Vec::new();
        for index in first..first + count {
            watch::check(watch)?;
            let mut state = self.state();
            if !state.checked[index] {
                state.packed(self, index, &mut packed)?;
            }
        }
        Ok(())
    }

    fn malformed(&self, index: usize, what: Trouble) -> Error {
        let part = &self.blocks[index].parts[0];
        let of = part.cabinet.as_ref().map(|name| format!(" of {name}")).unwrap_or_default();
        Error::malformed(ID, format!("data block {index}{of} ({}) is damaged: {what};", self.method.name()), part.at)
    }
}

impl State {
    /// Forgets what it has unpacked: it begins anew when it is asked again.
    fn let_go(&mut self) {
        (self.decoder, self.next, self.last) = (None, 0, None);
        (self.frame, self.checkpoints, self.input) = (Vec::new(), Vec::new(), Input::default());
    }

    /// The packed bytes of a block, held against their checksums.
    fn packed(&mut self, folder: &Folder, index: usize, out: &mut Vec<u8>) -> Result<()> {
        out.clear();
        for part in &folder.blocks[index].parts {
            let bytes = self.input.bytes(part)?;
            let found = sum(bytes, part.packed, part.unpacked);
            if part.sum != 0 && part.sum != found {
                let of = part.cabinet.as_ref().map(|name| format!(" of {name}")).unwrap_or_default();
                return Err(Error::Checksum {
                    what: format!("data block {index}{of} at offset {:#x}", part.at),
                    expected: format!("checksum {:08x}", part.sum),
                    found: format!("{found:08x}"),
                });
            }
            out.extend_from_slice(bytes);
        }
        self.checked[index] = true;
        Ok(())
    }

    /// Makes the decoder give block `index` next.
    fn seek(&mut self, folder: &Folder, index: usize) -> Result<()> {
        let known = self.checkpoints.partition_point(|(at, _)| *at <= index);
        let best = known.checked_sub(1).map(|i| &self.checkpoints[i]);
        if self.decoder.is_some() && self.next <= index && best.is_none_or(|(at, _)| *at <= self.next) {
            return Ok(());
        }
        let (next, decoder) = match best {
            Some((at, decoder)) => (*at, decoder.again()),
            None => (0, Decoder::new(folder.method)?),
        };
        (self.next, self.decoder) = (next, Some(decoder));
        Ok(())
    }

    fn keep(&mut self, method: Method) {
        let is_due = self.checkpoints.last().map_or(0, |(at, _)| *at) + self.spacing <= self.next;
        if !is_due {
            return;
        }
        let each = match method {
            Method::Lzx(bits) => Lzx::size(bits),
            _ => FRAME * 3,
        };
        if (self.checkpoints.len() + 1) * each > MOST_KEPT {
            let mut number = 0;
            self.checkpoints.retain(|_| {
                number += 1;
                number % 2 == 0
            });
            self.spacing *= 2;
        }
        self.checkpoints.extend(self.decoder.as_ref().map(|decoder| (self.next, decoder.kept())));
    }

    /// Unpacks block `index` into `out`.
    fn unpack(&mut self, folder: &Folder, index: usize, out: &mut [u8]) -> Result<()> {
        if folder.method == Method::Stored {
            (self.next, self.decoder) = (index, Some(Decoder::Stored));
        } else {
            self.seek(folder, index)?;
        }
        let (mut packed, mut passed) = (Vec::new(), Vec::new());
        while self.next <= index {
            watch::going_on()?;
            let now = self.next;
            let into = match now == index {
                true => &mut *out,
                false => {
                    passed.resize(folder.blocks[now].len, 0);
                    passed.as_mut_slice()
                }
            };
            let unpacked = self.packed(folder, now, &mut packed).and_then(|()| match &mut self.decoder {
                Some(decoder) => decoder.frame(&packed, into).map_err(|what| folder.malformed(now, what)),
                None => Err(Error::Usage("a folder has no decoder".into())),
            });
            if let Err(e) = unpacked {
                // Whatever the decoder has become, it begins anew.
                (self.next, self.decoder) = (0, None);
                return Err(e);
            }
            self.next += 1;
            if folder.method != Method::Stored {
                self.keep(folder.method);
            }
        }
        Ok(())
    }
}

impl Input {
    fn bytes(&mut self, part: &Part) -> Result<&[u8]> {
        let len = usize::from(part.packed);
        let is_here = self.of.as_ref().is_some_and(|of| Arc::ptr_eq(of, &part.source))
            && part.data_at >= self.at
            && part.data_at + len as u64 <= self.at + self.bytes.len() as u64;
        if !is_here {
            let ahead = INPUT.min(part.source.len().saturating_sub(part.data_at)).max(len as u64);
            self.of = None;
            self.bytes.resize(ahead as usize, 0);
            part.source.read_at(part.data_at, &mut self.bytes)?;
            (self.of, self.at) = (Some(part.source.clone()), part.data_at);
        }
        let from = (part.data_at - self.at) as usize;
        Ok(&self.bytes[from..from + len])
    }
}

impl Source for Folder {
    fn len(&self) -> u64 {
        self.len
    }

    fn read_at(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        check_range(self.len, offset, buf.len() as u64)?;
        self.keeper.take(self);
        let mut state = self.state();
        while !buf.is_empty() {
            let index = self.blocks.partition_point(|b| b.start + b.len as u64 <= offset);
            let block = &self.blocks[index];
            let from = (offset - block.start) as usize;
            let len = buf.len().min(block.len - from);
            let (now, later) = buf.split_at_mut(len);
            if len == block.len && state.last != Some(index) {
                state.unpack(self, index, now)?;
            } else {
                if state.last != Some(index) {
                    let mut frame = std::mem::take(&mut state.frame);
                    frame.resize(block.len, 0);
                    state.last = None;
                    let unpacked = state.unpack(self, index, &mut frame);
                    state.frame = frame;
                    unpacked?;
                    state.last = Some(index);
                }
                now.copy_from_slice(&state.frame[from..from + len]);
            }
            offset += len as u64;
            buf = later;
        }
        Ok(())
    }

    fn prefers_sequential(&self) -> bool {
        self.method != Method::Stored
    }
}

/// The checksum of a data block: words of four bytes, each against the others, with the lengths; what is left at the end
/// counts from its first byte down.
pub(super) fn sum(bytes: &[u8], packed: u16, unpacked: u16) -> u32 {
    let mut chunks = bytes.chunks_exact(4);
    let mut sum = (&mut chunks).fold(0, |sum, c| sum ^ u32::from_le_bytes([c[0], c[1], c[2], c[3]]));
    sum ^= chunks.remainder().iter().fold(0, |word, byte| word << 8 | u32::from(*byte));
    sum ^ (u32::from(unpacked) << 16 | u32::from(packed))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Worked out by hand: 04030201 ^ 00000605 ^ 0007_0006.
    #[test]
    fn a_checksum_by_hand() {
        assert_eq!(sum(&[1, 2, 3, 4, 6, 5], 6, 7), 0x0403_0201 ^ 0x0000_0605 ^ 0x0007_0006);
        assert_eq!(sum(&[1, 2, 3, 4, 7, 6, 5], 7, 7), 0x0403_0201 ^ 0x0007_0605 ^ 0x0007_0007);
    }
}
