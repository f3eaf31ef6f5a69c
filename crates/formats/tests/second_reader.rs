//! Patches held against a second reader and a second writer, which share nothing with those of the library: they are written along
//! RFC 3284 and the layouts of docs/formats/patches.md, as plainly as can be.

use decanter_core::Keyring;
use decanter_core::format::Opener;
use decanter_core::source::{Bytes, SourceRef};
use decanter_formats::REGISTRY;
use decanter_formats::patch::{bps, ips, large, ups, vcdiff};
use proptest::prelude::*;
use std::sync::Arc;

/// Numbers that look random, and are the same for the same seed.
struct Dice(u64);

impl Dice {
    fn below(&mut self, most: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 >> 11) as usize % most.max(1)
    }

    fn of<T: Copy>(&mut self, all: &[T]) -> T {
        all[self.below(all.len())]
    }

    fn bytes(&mut self, len: usize) -> Vec<u8> {
        (0..len).map(|_| self.below(256) as u8).collect()
    }
}

/// Bytes that are read from the front.
struct Reader<'a>(&'a [u8]);

impl Reader<'_> {
    fn take(&mut self, len: usize) -> Vec<u8> {
        let (own, rest) = self.0.split_at(len);
        self.0 = rest;
        own.to_vec()
    }

    fn byte(&mut self) -> u8 {
        self.take(1)[0]
    }

    /// RFC 3284, section 2: seven bits a byte, the highest first, all but the last marked.
    fn number(&mut self) -> usize {
        let mut value = 0;
        loop {
            let byte = self.byte();
            value = value << 7 | usize::from(byte & 0x7f);
            if byte & 0x80 == 0 {
                return value;
            }
        }
    }

    /// As BPS and UPS have them: the lowest seven bits first, the last one marked, and no number in two ways.
    fn counted(&mut self) -> usize {
        let (mut value, mut shift) = (0, 1);
        loop {
            let byte = self.byte();
            value += usize::from(byte & 0x7f) * shift;
            if byte & 0x80 != 0 {
                return value;
            }
            shift <<= 7;
            value += shift;
        }
    }

    fn little(&mut self) -> u32 {
        u32::from_le_bytes(self.take(4).try_into().unwrap())
    }
}

fn number(value: usize) -> Vec<u8> {
    let mut bytes = vec![(value & 0x7f) as u8];
    let mut rest = value >> 7;
    while rest > 0 {
        bytes.insert(0, (rest & 0x7f) as u8 | 0x80);
        rest >>= 7;
    }
    bytes
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum Op {
    Add(usize),
    Run(usize),
    /// How many bytes, and in which mode the address is told.
    Copy(usize, usize),
}

/// The table of instructions of RFC 3284, section 5.6: line by line as it stands there.
fn table() -> Vec<[Option<Op>; 2]> {
    let mut all = vec![[Some(Op::Run(0)), None]];
    all.extend((0..=17).map(|size| [Some(Op::Add(size)), None]));
    for mode in 0..9 {
        all.push([Some(Op::Copy(0, mode)), None]);
        all.extend((4..=18).map(|size| [Some(Op::Copy(size, mode)), None]));
    }
    for mode in 0..6 {
        for add in 1..=4 {
            all.extend((4..=6).map(|copy| [Some(Op::Add(add)), Some(Op::Copy(copy, mode))]));
        }
    }
    for mode in 6..9 {
        all.extend((1..=4).map(|add| [Some(Op::Add(add)), Some(Op::Copy(4, mode))]));
    }
    all.extend((0..9).map(|mode| [Some(Op::Copy(4, mode)), Some(Op::Add(1))]));
    assert_eq!(all.len(), 256);
    all
}

/// Addresses that were met: section 5.1.
struct Met {
    near: [usize; 4],
    next: usize,
    same: Vec<usize>,
}

impl Met {
    fn new() -> Self {
        Self { near: [0; 4], next: 0, same: vec![0; 3 * 256] }
    }

    fn keep(&mut self, address: usize) {
        self.near[self.next] = address;
        self.next = (self.next + 1) % 4;
        self.same[address % (3 * 256)] = address;
    }
}

/// What a copy gives, byte by byte: it may read what it makes.
fn copy(segment: &[u8], made: &mut Vec<u8>, address: usize, len: usize) {
    for at in address..address + len {
        let byte = if at < segment.len() { segment[at] } else { made[at - segment.len()] };
        made.push(byte);
    }
}

fn adler(bytes: &[u8]) -> u32 {
    let (a, b) = bytes.iter().fold((1u32, 0u32), |(a, b), byte| {
        let a = (a + u32::from(*byte)) % 65521;
        (a, (a + b) % 65521)
    });
    b << 16 | a
}

/// Reads a patch as RFC 3284 has it, with everything that our writer uses.
fn applied_vcdiff(patch: &[u8], old: &[u8]) -> Vec<u8> {
    let table = table();
    let mut patch = Reader(patch);
    assert_eq!(patch.take(5), b"\xd6\xc3\xc4\0\0");
    let mut new: Vec<u8> = Vec::new();
    while !patch.0.is_empty() {
        let indicator = patch.byte();
        let segment = match indicator & 3 {
            0 => Vec::new(),
            from => {
                let (len, at) = (patch.number(), patch.number());
                if from == 1 { old[at..at + len].to_vec() } else { new[at..at + len].to_vec() }
            }
        };
        let rest = patch.number();
        let end = patch.0.len() - rest;
        let len = patch.number();
        assert_eq!(patch.byte(), 0);
        let sizes = [patch.number(), patch.number(), patch.number()];
        let sum = (indicator & 4 != 0).then(|| u32::from_be_bytes(patch.take(4).try_into().unwrap()));
        let [data, instructions, addresses] = sizes.map(|size| patch.take(size));
        assert_eq!(patch.0.len(), end);
        let (mut data, mut instructions, mut addresses) = (Reader(&data), Reader(&instructions), Reader(&addresses));
        let (mut met, mut made) = (Met::new(), Vec::new());
        while !instructions.0.is_empty() {
            for op in table[usize::from(instructions.byte())].into_iter().flatten() {
                let mut size = |own: usize| if own == 0 { instructions.number() } else { own };
                match op {
                    Op::Add(own) => made.extend(data.take(size(own))),
                    Op::Run(own) => {
                        let byte = data.byte();
                        made.extend(vec![byte; size(own)]);
                    }
                    Op::Copy(own, mode) => {
                        let here = segment.len() + made.len();
                        let len = size(own);
                        let address = match mode {
                            0 => addresses.number(),
                            1 => here - addresses.number(),
                            2..=5 => met.near[mode - 2] + addresses.number(),
                            _ => met.same[(mode - 6) * 256 + usize::from(addresses.byte())],
                        };
                        assert!(address < here);
                        met.keep(address);
                        copy(&segment, &mut made, address, len);
                    }
                }
            }
        }
        assert!(data.0.is_empty() && addresses.0.is_empty() && made.len() == len);
        assert!(sum.is_none_or(|sum| sum == adler(&made)));
        new.extend(made);
    }
    new
}

/// A window that uses whatever the standard has; what it makes is put behind `new`.
fn window(dice: &mut Dice, old: &[u8], new: &mut Vec<u8>) -> Vec<u8> {
    let from = dice.below(3);
    let whole = [&[][..], old, new][from].to_vec();
    let mut patch = Vec::new();
    let (mut segment, mut indicator) = (Vec::new(), 0);
    if !whole.is_empty() {
        let at = dice.below(whole.len());
        let len = 1 + dice.below(whole.len() - at);
        segment = whole[at..at + len].to_vec();
        indicator = from as u8;
        patch.extend([number(len), number(at)].concat());
    }
    let (mut data, mut addresses) = (Vec::new(), Vec::new());
    let (mut met, mut made, mut ops) = (Met::new(), Vec::new(), Vec::new());
    for _ in 0..1 + dice.below(50) {
        let here = segment.len() + made.len();
        let kind = dice.below(10);
        if kind < 3 || here == 0 {
            let len = dice.of(&[1, 2, 4, 5, 17, 18, 200]);
            let bytes = dice.bytes(len);
            data.extend(&bytes);
            made.extend(bytes);
            ops.push(Op::Add(len));
        } else if kind == 3 {
            let (len, byte) = (dice.of(&[1, 4, 300]), dice.below(256) as u8);
            data.push(byte);
            made.extend(vec![byte; len]);
            ops.push(Op::Run(len));
        } else {
            let (near, same) = (dice.of(&met.near), met.same[dice.below(met.same.len())]);
            let recent = here - 1 - dice.below(here.min(40));
            let address = [dice.below(here), near, same, recent][dice.below(4)];
            let mut modes = vec![0, 1];
            modes.extend((0..4).filter(|which| met.near[*which] <= address).map(|which| which + 2));
            modes.extend((met.same[address % 768] == address).then_some(6 + address % 768 / 256));
            let mode = dice.of(&modes);
            addresses.extend(match mode {
                0 => number(address),
                1 => number(here - address),
                2..=5 => number(address - met.near[mode - 2]),
                _ => vec![address as u8],
            });
            met.keep(address);
            let len = dice.of(&[1, 4, 5, 6, 18, 19, 700]);
            copy(&segment, &mut made, address, len);
            ops.push(Op::Copy(len, mode));
        }
    }
    let sum = if dice.below(2) == 0 { Vec::new() } else { adler(&made).to_be_bytes().to_vec() };
    indicator |= if sum.is_empty() { 0 } else { 4 };
    let instructions = spelled(dice, &ops);
    let sizes = [data.len(), instructions.len(), addresses.len()].map(number).concat();
    let body = [number(made.len()), vec![0], sizes, sum, data, instructions, addresses].concat();
    new.extend(made);
    [vec![indicator], patch, number(body.len()), body].concat()
}

/// Instructions as bytes: two in one where there is such a line, and sometimes the longer way.
fn spelled(dice: &mut Dice, ops: &[Op]) -> Vec<u8> {
    let table = table();
    let line = |wanted: [Option<Op>; 2]| table.iter().position(|line| *line == wanted).map(|at| at as u8);
    let (mut bytes, mut at) = (Vec::new(), 0);
    while at < ops.len() {
        let pair = ops.get(at + 1).and_then(|next| line([Some(ops[at]), Some(*next)]));
        if let Some(pair) = pair.filter(|_| dice.below(4) > 0) {
            bytes.push(pair);
            at += 2;
            continue;
        }
        let (long, size) = match ops[at] {
            Op::Add(size) => (Op::Add(0), size),
            Op::Run(size) => (Op::Run(0), size),
            Op::Copy(size, mode) => (Op::Copy(0, mode), size),
        };
        match line([Some(ops[at]), None]).filter(|_| dice.below(4) > 0) {
            Some(short) => bytes.push(short),
            None => bytes.extend([vec![line([Some(long), None]).unwrap()], number(size)].concat()),
        }
        at += 1;
    }
    bytes
}

/// What every patch format that counts its bytes ends with.
fn sums(patch: &[u8], old: &[u8], new: &[u8]) {
    let (body, mut end) = (&patch[..patch.len() - 4], Reader(&patch[patch.len() - 12..]));
    let found = [end.little(), end.little(), end.little()];
    assert_eq!(found, [old, new, body].map(crc32fast::hash));
}

fn applied_bps(whole: &[u8], old: &[u8]) -> Vec<u8> {
    let mut patch = Reader(&whole[..whole.len() - 12]);
    assert_eq!(patch.take(4), b"BPS1");
    assert_eq!(patch.counted(), old.len());
    let len = patch.counted();
    let metadata = patch.counted();
    patch.take(metadata);
    let (mut new, mut from_old, mut from_new) = (Vec::new(), 0i64, 0i64);
    while !patch.0.is_empty() {
        let word = patch.counted();
        let len = (word >> 2) + 1;
        let mut moved = |at: &mut i64| {
            let by = patch.counted();
            *at += if by & 1 == 1 { -((by >> 1) as i64) } else { (by >> 1) as i64 };
            let start = *at as usize;
            *at += len as i64;
            start
        };
        match word & 3 {
            0 => new.extend(&old[new.len()..new.len() + len]),
            1 => new.extend(patch.take(len)),
            2 => {
                let start = moved(&mut from_old);
                new.extend(&old[start..start + len]);
            }
            _ => {
                let start = moved(&mut from_new);
                copy(&[], &mut new, start, len);
            }
        }
    }
    assert_eq!(new.len(), len);
    sums(whole, old, &new);
    new
}

fn applied_ups(whole: &[u8], old: &[u8]) -> Vec<u8> {
    let mut patch = Reader(&whole[..whole.len() - 12]);
    assert_eq!(patch.take(4), b"UPS1");
    assert_eq!(patch.counted(), old.len());
    let len = patch.counted();
    // Behind its end, a file has zeros.
    let mut new = old.to_vec();
    new.resize(len.max(old.len()), 0);
    let mut at = 0;
    while !patch.0.is_empty() {
        at += patch.counted();
        loop {
            let byte = patch.byte();
            if let Some(own) = new.get_mut(at) {
                *own ^= byte;
            }
            at += 1;
            if byte == 0 {
                break;
            }
        }
    }
    new.truncate(len);
    sums(whole, old, &new);
    new
}

fn applied_ips(patch: &[u8], old: &[u8]) -> Vec<u8> {
    let mut patch = Reader(patch);
    assert_eq!(patch.take(5), b"PATCH");
    let mut new = old.to_vec();
    let big = |bytes: Vec<u8>| bytes.into_iter().fold(0, |value, byte| value << 8 | usize::from(byte));
    loop {
        let head = patch.take(3);
        if head == b"EOF" {
            break;
        }
        let (at, len) = (big(head), big(patch.take(2)));
        let bytes = match len {
            0 => {
                let len = big(patch.take(2));
                vec![patch.byte(); len]
            }
            len => patch.take(len),
        };
        new.resize(new.len().max(at + bytes.len()), 0);
        new[at..at + bytes.len()].copy_from_slice(&bytes);
    }
    if !patch.0.is_empty() {
        let len = big(patch.take(3));
        new.truncate(len);
    }
    assert!(patch.0.is_empty());
    new
}

/// Two files that have something to do with each other.
fn pair(dice: &mut Dice) -> (Vec<u8>, Vec<u8>) {
    let len = dice.of(&[0, 1, 700, 5000]);
    let old = match dice.below(3) {
        0 => dice.bytes(len),
        1 => b"low tide ".iter().copied().cycle().take(len).collect(),
        _ => vec![dice.below(256) as u8; len],
    };
    let mut new = Vec::new();
    for _ in 0..dice.below(7) {
        let at = dice.below(old.len() + 1);
        let end = (at + dice.below(1500)).min(old.len());
        new.extend(&old[at..end]);
        let len = dice.below(30);
        new.extend(dice.bytes(len));
        let (byte, times) = (dice.below(256) as u8, dice.of(&[0, 0, 3, 400]));
        new.extend(vec![byte; times]);
    }
    if dice.below(3) == 0 && !old.is_empty() {
        new = old.clone();
        for _ in 0..1 + dice.below(20) {
            let at = dice.below(new.len());
            new[at] ^= 1 + dice.below(255) as u8;
        }
    }
    (old, new)
}

/// What the library makes of a patch.
fn ours(patch: Vec<u8>, old: &[u8]) -> Vec<u8> {
    let keys = Keyring::default();
    let opened = Opener::new(&REGISTRY, &keys).open(Arc::new(Bytes(patch))).unwrap();
    let old: SourceRef = Arc::new(Bytes(old.to_vec()));
    let new = opened.holds.patch.unwrap().apply(&old).unwrap();
    let mut bytes = vec![0; new.len() as usize];
    new.read_at(0, &mut bytes).unwrap();
    bytes
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    #[test]
    fn what_is_written_is_what_the_layouts_say(seed in 1u64..) {
        let (old, new) = pair(&mut Dice(seed));
        prop_assert!(applied_vcdiff(&vcdiff::make(&old, &new).unwrap(), &old) == new, "vcdiff");
        prop_assert!(applied_bps(&bps::make(&old, &new, b"salt").unwrap(), &old) == new, "bps");
        prop_assert!(applied_ups(&ups::make(&old, &new).unwrap(), &old) == new, "ups");
        prop_assert!(applied_ips(&ips::make(&old, &new).unwrap(), &old) == new, "ips");
        // The same of files that are not held.
        let [before, after]: [SourceRef; 2] = [&old, &new].map(|bytes| Arc::new(Bytes(bytes.clone())) as SourceRef);
        let (patch, sums) = large::bps(&before, &after, b"salt", &()).unwrap();
        prop_assert!(applied_bps(&patch, &old) == new, "large bps");
        prop_assert_eq!(sums, [&old, &new].map(|bytes| crc32fast::hash(bytes)));
        prop_assert!(applied_ups(&large::ups(&before, &after, &()).unwrap().0, &old) == new, "large ups");
    }

    #[test]
    fn what_the_standard_allows_is_read(seed in 1u64..) {
        let mut dice = Dice(seed);
        let len = dice.of(&[0, 1, 50, 4000]);
        let old = dice.bytes(len);
        let mut new = Vec::new();
        let head = [&b"\xd6\xc3\xc4\0\0"[..], b"\xd6\xc3\xc4\0\x04\x05salty"][dice.below(2)];
        let mut patch = head.to_vec();
        for _ in 0..1 + dice.below(5) {
            patch.extend(window(&mut dice, &old, &mut new));
        }
        prop_assert!(ours(patch, &old) == new);
    }
}
