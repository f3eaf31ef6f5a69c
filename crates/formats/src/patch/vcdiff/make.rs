//! Making of VCDIFF patches: windows of the file after, each with copies out of the file before and out of itself.

use super::code::{Cache, Kind, MAGIC, MODES, Table, put};
use crate::patch::delta::{self, Step};
use crate::patch::granted;
use decanter_core::Result;
use std::collections::HashMap;

/// Bytes that a window makes.
const WINDOW: usize = 4 << 20;
/// Shorter copies are written out.
const SHORT: usize = 4;

/// A stretch of a window.
enum Piece {
    Add(std::ops::Range<usize>),
    /// Out of the file before.
    Old(usize, usize),
    /// Out of the file after, in the same window.
    New(usize, usize),
}

/// Makes a patch.
///
/// # Errors
/// [`decanter_core::Error::Limit`] for files that are too large, [`decanter_core::Error::Cancelled`].
pub fn make(old: &[u8], new: &[u8]) -> Result<Vec<u8>> {
    granted("the old file", old.len() as u64)?;
    granted("the new file", new.len() as u64)?;
    let mut out = MAGIC.to_vec();
    out.push(0);
    let mut writer = Writer { old, new, start: 0, at: 0, pieces: Vec::new(), codes: codes() };
    delta::steps(old, new, &mut |step| match step {
        Step::Same(len) => writer.take(&mut out, len, &|at, len| Piece::Old(at, len)),
        Step::Literal(range) => writer.take(&mut out, range.len(), &|at, len| Piece::Add(at..at + len)),
        Step::Source(from, len) => {
            let begin = writer.at;
            writer.take(&mut out, len, &|at, len| Piece::Old(from + (at - begin), len));
        }
        Step::Target(from, len) => {
            let begin = writer.at;
            writer.take(&mut out, len, &|at, len| Piece::New(from + (at - begin), len));
        }
    })?;
    writer.flush(&mut out);
    Ok(out)
}

/// The codes of single instructions, by kind, size and mode.
fn codes() -> HashMap<(u8, u8, u8), u8> {
    let table = Table::standard();
    let single = table.pairs.iter().enumerate().filter(|(_, pair)| pair[1].kind == Kind::Nothing);
    single.map(|(code, [half, _])| ((half.kind as u8, half.size, half.mode), code as u8)).collect()
}

struct Writer<'a> {
    old: &'a [u8],
    new: &'a [u8],
    /// Where the window begins in the file after.
    start: usize,
    /// How far the steps have come.
    at: usize,
    pieces: Vec<Piece>,
    codes: HashMap<(u8, u8, u8), u8>,
}

impl Writer<'_> {
    /// Takes a step in, in as many windows as it reaches into.
    fn take(&mut self, out: &mut Vec<u8>, mut len: usize, piece: &dyn Fn(usize, usize) -> Piece) {
        while len > 0 {
            let now = len.min(self.start + WINDOW - self.at);
            let made = match piece(self.at, now) {
                // What the window does not reach is written out.
                Piece::New(from, len) if from < self.start || len < SHORT => Piece::Add(self.at..self.at + now),
                Piece::Old(_, len) if len < SHORT => Piece::Add(self.at..self.at + now),
                made => made,
            };
            match (self.pieces.last_mut(), made) {
                (Some(Piece::Add(last)), Piece::Add(range)) if last.end == range.start => last.end = range.end,
                (_, made) => self.pieces.push(made),
            }
            self.at += now;
            len -= now;
            if self.at == self.start + WINDOW {
                self.flush(out);
            }
        }
    }

    /// Writes the window.
    fn flush(&mut self, out: &mut Vec<u8>) {
        if self.at == self.start {
            return;
        }
        let pieces = std::mem::take(&mut self.pieces);
        let olds = || {
            pieces
                .iter()
                .filter_map(|piece| if let Piece::Old(from, len) = piece { Some((*from, from + len)) } else { None })
        };
        let segment = match (olds().map(|(from, _)| from).min(), olds().map(|(_, to)| to).max()) {
            (Some(from), Some(to)) => from..to.min(self.old.len()),
            _ => 0..0,
        };
        let (mut data, mut instructions, mut addresses) = (Vec::new(), Vec::new(), Vec::new());
        let mut cache = Cache::new(4, MODES - 2 - 4);
        let mut made = 0;
        for piece in &pieces {
            let here = (segment.len() + made) as u64;
            match piece {
                Piece::Add(range) => {
                    let bytes = &self.new[range.clone()];
                    match bytes {
                        [first, rest @ ..] if rest.len() >= SHORT && rest.iter().all(|byte| byte == first) => {
                            self.instruction(&mut instructions, Kind::Run, bytes.len(), 0);
                            data.push(*first);
                        }
                        bytes => {
                            self.instruction(&mut instructions, Kind::Add, bytes.len(), 0);
                            data.extend_from_slice(bytes);
                        }
                    }
                    made += bytes.len();
                }
                Piece::Old(from, len) | Piece::New(from, len) => {
                    let address = match piece {
                        Piece::New(from, _) => segment.len() + (from - self.start),
                        _ => from - segment.start,
                    };
                    let (mode, spelled) = cache.write(address as u64, here);
                    self.instruction(&mut instructions, Kind::Copy, *len, mode);
                    addresses.extend(spelled);
                    made += len;
                }
            }
        }
        let mut rest = Vec::new();
        put(&mut rest, made as u64);
        rest.push(0);
        for part in [&data, &instructions, &addresses] {
            put(&mut rest, part.len() as u64);
        }
        match segment.is_empty() {
            true => out.push(0),
            false => {
                out.push(1);
                put(out, segment.len() as u64);
                put(out, segment.start as u64);
            }
        }
        put(out, (rest.len() + data.len() + instructions.len() + addresses.len()) as u64);
        for part in [rest, data, instructions, addresses] {
            out.extend(part);
        }
        self.start = self.at;
    }

    fn instruction(&self, out: &mut Vec<u8>, kind: Kind, size: usize, mode: usize) {
        let code = |size: u8| self.codes.get(&(kind as u8, size, mode as u8)).copied();
        match u8::try_from(size).ok().filter(|size| *size > 0).and_then(code) {
            Some(code) => out.push(code),
            None => {
                out.push(code(0).unwrap_or_default());
                put(out, size as u64);
            }
        }
    }
}
