//! What the windows of a VCDIFF patch make, when it is asked for. RFC 3284, sections 3 and 5.

use super::code::{Cache, Kind, number};
use super::window::{Segment, Shared, Window};
use decanter_core::source::{Source, SourceRef, check_range, read_vec};
use decanter_core::{Error, Result};
use std::collections::VecDeque;
use std::ops::Range;
use std::sync::{Arc, Mutex, PoisonError};

/// Windows that are held.
const HELD: usize = 3;
/// Windows that are made of windows before them, which are made of others.
const MOST_DEEP: usize = 16;

/// What an instruction asks for.
enum Op {
    Add(usize),
    Run(usize),
    /// From this address, through the segment and on through what is made.
    Copy(u64, usize),
}

impl Shared {
    pub(super) fn len(&self) -> u64 {
        self.windows.last().map_or(0, |window| window.makes.end)
    }

    fn part(&self, range: &Range<u64>) -> Result<Vec<u8>> {
        read_vec(self.patch.as_ref(), range.start, range.end - range.start, "a part of a window", 1 << 30)
    }

    /// Goes through the instructions of a window, which have to make what it says.
    fn walk(&self, window: &Window, each: &mut dyn FnMut(Op) -> Result<()>) -> Result<()> {
        let (instructions, addresses) = (self.part(&window.instructions)?, self.part(&window.addresses)?);
        let mut cache = Cache::new(self.table.near, self.table.same);
        let (mut at, mut address_at, mut made) = (0, 0, 0);
        let size = window.makes.end - window.makes.start;
        while at < instructions.len() {
            let pair = self.table.pairs[usize::from(instructions[at])];
            at += 1;
            for half in pair {
                if half.kind == Kind::Nothing {
                    continue;
                }
                let len = match half.size {
                    0 => number(&instructions, &mut at).map_err(|_| window.wrong("instructions that are cut short"))?,
                    size => size.into(),
                };
                if len > size - made {
                    return Err(window.wrong("an instruction that makes more than its window"));
                }
                let op = match half.kind {
                    Kind::Add => Op::Add(len as usize),
                    Kind::Run => Op::Run(len as usize),
                    Kind::Copy | Kind::Nothing => {
                        let here = window.segment.len() + made;
                        let address = cache.read(&addresses, &mut address_at, here, half.mode);
                        Op::Copy(
                            address.map_err(|_| window.wrong("a copy from a place that is not there"))?,
                            len as usize,
                        )
                    }
                };
                each(op)?;
                made += len;
            }
        }
        match made == size && address_at == addresses.len() {
            true => Ok(()),
            false => Err(window.wrong("a window that does not make what it says")),
        }
    }

    /// What a window may change: all but what it copies from the same place.
    pub(super) fn touches(&self, window: &Window, ranges: &mut Vec<Range<u64>>) -> Result<()> {
        let mut at = window.makes.start;
        self.walk(window, &mut |op| {
            let (len, is_same) = match op {
                Op::Add(len) | Op::Run(len) => (len, false),
                Op::Copy(address, len) => {
                    let is_before = |range: &Range<u64>| {
                        range.start + address == at && address + len as u64 <= range.end - range.start
                    };
                    (len, matches!(&window.segment, Segment::Before(range) if is_before(range)))
                }
            };
            if !is_same {
                ranges.push(at..at + len as u64);
            }
            at += len as u64;
            Ok(())
        })
    }
}

/// The file after, made window by window.
pub(super) struct Turned {
    base: SourceRef,
    shared: Arc<Shared>,
    held: Mutex<VecDeque<(usize, Arc<Vec<u8>>)>>,
}

impl Turned {
    pub(super) fn new(base: SourceRef, shared: Arc<Shared>) -> Self {
        Self { base, shared, held: Mutex::default() }
    }

    /// What a window makes.
    fn window(&self, number: usize, depth: usize) -> Result<Arc<Vec<u8>>> {
        {
            let held = self.held.lock().unwrap_or_else(PoisonError::into_inner);
            if let Some((_, bytes)) = held.iter().find(|(other, _)| *other == number) {
                return Ok(bytes.clone());
            }
        }
        let made = Arc::new(self.make(number, depth)?);
        let mut held = self.held.lock().unwrap_or_else(PoisonError::into_inner);
        if held.len() >= HELD {
            held.pop_front();
        }
        held.push_back((number, made.clone()));
        Ok(made)
    }

    fn read(&self, offset: u64, buf: &mut [u8], depth: usize) -> Result<()> {
        let windows = &self.shared.windows;
        let end = offset + buf.len() as u64;
        let first = windows.partition_point(|window| window.makes.end <= offset);
        for (number, window) in
            windows.iter().enumerate().skip(first).take_while(|(_, window)| window.makes.start < end)
        {
            let (from, to) = (window.makes.start.max(offset), window.makes.end.min(end));
            if from >= to {
                continue;
            }
            let made = self.window(number, depth)?;
            let within = (from - window.makes.start) as usize..(to - window.makes.start) as usize;
            buf[(from - offset) as usize..(to - offset) as usize].copy_from_slice(&made[within]);
        }
        Ok(())
    }

    fn make(&self, number: usize, depth: usize) -> Result<Vec<u8>> {
        if depth > MOST_DEEP {
            let limit = MOST_DEEP as u64;
            return Err(Error::Limit { what: "windows that are made of windows", asked: limit + 1, limit });
        }
        let window = &self.shared.windows[number];
        let data = self.shared.part(&window.data)?;
        let mut data_at = 0;
        let mut work = Work { turned: self, window, depth, out: Vec::new() };
        self.shared.walk(window, &mut |op| {
            match op {
                Op::Add(len) => {
                    let bytes = data.get(data_at..data_at + len);
                    work.out.extend_from_slice(bytes.ok_or_else(|| window.wrong("bytes that are not there"))?);
                    data_at += len;
                }
                Op::Run(len) => {
                    let byte = *data.get(data_at).ok_or_else(|| window.wrong("a byte that is not there"))?;
                    work.out.resize(work.out.len() + len, byte);
                    data_at += 1;
                }
                Op::Copy(address, len) => work.copy(address, len)?,
            }
            Ok(())
        })?;
        if data_at != data.len() {
            return Err(window.wrong("a window with bytes that nothing takes"));
        }
        let out = work.out;
        match window.adler32 {
            Some(expected) if adler32(&out) != expected => Err(Error::Checksum {
                what: format!("bytes {} to {} of the file after", window.makes.start, window.makes.end),
                expected: format!("Adler-32 {expected:08x}"),
                found: format!(
                    "{:08x}: this is not the file that the patch is for, or one of both is damaged",
                    adler32(&out)
                ),
            }),
            _ => Ok(out),
        }
    }
}

/// A window that is being made.
struct Work<'a> {
    turned: &'a Turned,
    window: &'a Window,
    depth: usize,
    out: Vec<u8>,
}

impl Work<'_> {
    /// A copy out of the segment, and on through what is made already, which it may overlap.
    fn copy(&mut self, address: u64, len: usize) -> Result<()> {
        let own = self.window.segment.len();
        let mut left = len;
        if address < own {
            let now = left.min((own - address) as usize);
            let before = self.out.len();
            self.out.resize(before + now, 0);
            let buf = &mut self.out[before..];
            match &self.window.segment {
                Segment::Before(range) => self.turned.base.read_at(range.start + address, buf)?,
                Segment::After(range) => self.turned.read(range.start + address, buf, self.depth + 1)?,
                Segment::None => {}
            }
            left -= now;
        }
        let mut from = address.saturating_sub(own) as usize;
        while left > 0 {
            // As much as is there; what that makes can be copied in its turn.
            let now = left.min(self.out.len() - from);
            self.out.extend_from_within(from..from + now);
            from += now;
            left -= now;
        }
        Ok(())
    }
}

/// Adler-32, as RFC 1950 has it.
fn adler32(bytes: &[u8]) -> u32 {
    const MOD: u32 = 65_521;
    let (mut a, mut b) = (1u32, 0u32);
    // So many bytes fit before the sums have to be brought down.
    for chunk in bytes.chunks(5552) {
        for byte in chunk {
            a += u32::from(*byte);
            b += a;
        }
        a %= MOD;
        b %= MOD;
    }
    b << 16 | a
}

impl Source for Turned {
    fn len(&self) -> u64 {
        self.shared.len()
    }

    fn read_at(&self, offset: u64, buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        self.read(offset, buf, 0)
    }

    fn prefers_sequential(&self) -> bool {
        true
    }
}
