//! The windows of a VCDIFF patch, as they are written. RFC 3284, section 4.

use super::code::{Cache, Kind, MODES, Table, put};
use std::collections::HashMap;
use std::ops::Range;

/// Bytes that a window makes.
pub(super) const WINDOW: usize = 4 << 20;
/// Shorter copies are written out.
const SHORT: usize = 4;
/// Bytes of the file before that the copies of one window come from: programs that turn one file into the other hold as much.
const MOST_SEGMENT: usize = 64 << 20;

/// A stretch of a window, by places in both files.
pub(super) enum Piece {
    Add(Range<usize>),
    /// Out of the file before.
    Old(usize, usize),
    /// Out of the file after, in the same window.
    New(usize, usize),
}

/// The codes of single instructions, by kind, size and mode.
fn codes() -> HashMap<(u8, u8, u8), u8> {
    let table = Table::standard();
    let single = table.pairs.iter().enumerate().filter(|(_, pair)| pair[1].kind == Kind::Nothing);
    single.map(|(code, [half, _])| ((half.kind as u8, half.size, half.mode), code as u8)).collect()
}

/// Writes windows.
pub(super) struct Writer<'a> {
    /// Bytes of the file before.
    old_len: usize,
    /// Bytes of the file after, and where they begin in it.
    new: &'a [u8],
    base: usize,
    /// Where the window begins in the file after.
    start: usize,
    /// How far the steps have come.
    at: usize,
    pieces: Vec<Piece>,
    /// What of the file before the pieces reach over.
    reach: Range<usize>,
    codes: HashMap<(u8, u8, u8), u8>,
}

impl<'a> Writer<'a> {
    /// One for `new`, which begins at `base` of the file after.
    pub(super) fn new(old_len: usize, new: &'a [u8], base: usize) -> Self {
        let (start, at) = (base, base);
        Self { old_len, new, base, start, at, pieces: Vec::new(), reach: 0..0, codes: codes() }
    }

    /// How far the steps have come in the file after.
    pub(super) fn place(&self) -> usize {
        self.at
    }

    /// Takes a step in, in as many windows as it reaches into.
    pub(super) fn take(&mut self, out: &mut Vec<u8>, mut len: usize, piece: &dyn Fn(usize, usize) -> Piece) {
        while len > 0 {
            let now = len.min(self.start + WINDOW - self.at);
            let made = match piece(self.at, now) {
                // What the window does not reach is written out.
                Piece::New(from, len) if from < self.start || len < SHORT => Piece::Add(self.at..self.at + now),
                Piece::Old(_, len) if len < SHORT => Piece::Add(self.at..self.at + now),
                made => made,
            };
            if let Piece::Old(from, len) = made {
                self.reach_over(out, from..from + len);
            }
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

    /// Takes in what a copy comes from. A window whose copies would come from too far apart ends before it.
    fn reach_over(&mut self, out: &mut Vec<u8>, own: Range<usize>) {
        let both = self.reach.start.min(own.start)..self.reach.end.max(own.end);
        self.reach = match self.reach.is_empty() {
            false if both.len() <= MOST_SEGMENT => both,
            false => {
                self.flush(out);
                own
            }
            true => own,
        };
    }

    /// Writes the window.
    pub(super) fn flush(&mut self, out: &mut Vec<u8>) {
        if self.at == self.start {
            return;
        }
        let pieces = std::mem::take(&mut self.pieces);
        let reach = std::mem::take(&mut self.reach);
        let segment = reach.start..reach.end.min(self.old_len);
        let (mut data, mut instructions, mut addresses) = (Vec::new(), Vec::new(), Vec::new());
        let mut cache = Cache::new(4, MODES - 2 - 4);
        let mut made = 0;
        for piece in &pieces {
            let here = (segment.len() + made) as u64;
            match piece {
                Piece::Add(range) => {
                    let bytes = &self.new[range.start - self.base..range.end - self.base];
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

#[cfg(test)]
mod tests {
    use super::super::parse::parse;
    use super::super::window::Segment;
    use super::*;
    use decanter_core::source::Bytes;
    use std::sync::Arc;

    /// The segments and lengths of the windows that come of these steps, each from a place of the file before, so many bytes.
    fn windows(old_len: usize, steps: &[(Option<usize>, usize)]) -> Vec<(Segment, u64)> {
        let new = vec![7; steps.iter().map(|(_, len)| len).sum()];
        let (mut writer, mut out) = (Writer::new(old_len, &new, 0), [super::super::code::MAGIC, &[0]].concat());
        for (from, len) in steps {
            let begin = writer.place();
            writer.take(&mut out, *len, &|at, len| match from {
                Some(from) => Piece::Old(from + (at - begin), len),
                None => Piece::Add(at..at + len),
            });
        }
        writer.flush(&mut out);
        let shared = parse(Arc::new(Bytes(out)), 0).unwrap();
        shared.windows.into_iter().map(|window| (window.segment, window.makes.end - window.makes.start)).collect()
    }

    #[test]
    fn a_segment_reaches_over_all_copies_of_its_window() {
        let steps = [(Some(5000), 100), (None, 50), (Some(200), 100)];
        assert_eq!(windows(10_000, &steps), [(Segment::Before(200..5100), 250)]);
        assert_eq!(windows(10_000, &[(None, 50)]), [(Segment::None, 50)]);
    }

    #[test]
    fn copies_from_far_apart_are_in_windows_of_their_own() {
        let far = MOST_SEGMENT + 1000;
        let steps = [(Some(0), 100), (None, 10), (Some(far), 100), (Some(50), 100)];
        let wanted = [
            (Segment::Before(0..100), 110),
            (Segment::Before(far as u64..far as u64 + 100), 100),
            (Segment::Before(50..150), 100),
        ];
        assert_eq!(windows(far + 200, &steps), wanted);
    }

    #[test]
    fn a_step_that_is_longer_than_a_window_goes_on_in_the_next() {
        let steps = [(Some(10), WINDOW + 300)];
        let window = WINDOW as u64;
        let wanted = [(Segment::Before(10..window + 10), window), (Segment::Before(window + 10..window + 310), 300)];
        assert_eq!(windows(WINDOW * 2, &steps), wanted);
    }

    #[test]
    fn copies_that_are_no_gain_are_written_out() {
        assert_eq!(windows(100, &[(Some(3), SHORT - 1), (None, 20)]), [(Segment::None, SHORT as u64 + 19)]);
    }
}
