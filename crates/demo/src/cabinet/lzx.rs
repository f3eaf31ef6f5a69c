//! Packs what a folder of a cabinet holds with LZX: frames of 32 KiB, blocks of several frames, every kind of block in turn.
//!
//! Written from the description of the layout, apart from the decoder: they are held against each other.

/// Bytes of a frame, over whose end no match reaches.
const FRAME: usize = 32 << 10;
/// Frames of a block.
const BLOCK_FRAMES: usize = 4;
const LITERALS: usize = 256;
const LENGTHS: usize = 249;
const LONGEST: usize = 257;
const SLOTS: [usize; 7] = [30, 32, 34, 36, 38, 42, 50];
/// Earlier places with the same beginning that are tried.
const TRIES: usize = 8;

/// How a folder is packed.
#[derive(Debug, Clone, Copy)]
pub struct Lzx {
    /// Bits of the window, 15 to 21.
    pub bits: u32,
    /// Whether the targets of calls are made absolute.
    pub calls: bool,
    /// Whether every third block stands as it is, and every other one has an aligned code.
    pub is_mixed: bool,
}

enum Token {
    Byte(u8),
    /// Length, and the slot of the offset with its extra bits.
    Match(usize, usize, u32),
}

/// What each frame of `data` becomes.
pub fn pack(data: &[u8], how: Lzx) -> Vec<Vec<u8>> {
    let mut data = data.to_vec();
    if how.calls {
        make_absolute(&mut data);
    }
    let mut own = Packer {
        bits: Bits::default(),
        main: vec![0; LITERALS + 8 * SLOTS[how.bits as usize - 15]],
        lengths: vec![0; LENGTHS],
        recent: [1; 3],
        heads: vec![usize::MAX; 1 << 16],
        chain: vec![usize::MAX; data.len()],
        window: (1 << how.bits) - 3,
    };
    let mut frames = Vec::new();
    own.bits.put(u32::from(how.calls), 1);
    if how.calls {
        own.bits.put((data.len() >> 16) as u32, 16);
        own.bits.put(data.len() as u32 & 0xffff, 16);
    }
    for (number, from) in (0..data.len()).step_by(FRAME * BLOCK_FRAMES).enumerate() {
        let to = (from + FRAME * BLOCK_FRAMES).min(data.len());
        match (how.is_mixed, number % 3) {
            (true, 2) => own.stored(&data, from, to, &mut frames),
            (mixed, kind) => own.block(&data, from, to, mixed && kind == 1, &mut frames),
        }
    }
    frames
}

struct Packer {
    bits: Bits,
    /// Lengths of the codes of the block before.
    main: Vec<u8>,
    lengths: Vec<u8>,
    recent: [u32; 3],
    heads: Vec<usize>,
    chain: Vec<usize>,
    window: usize,
}

impl Packer {
    fn stored(&mut self, data: &[u8], from: usize, to: usize, frames: &mut Vec<Vec<u8>>) {
        self.header(3, to - from);
        self.bits.align(true);
        for recent in self.recent {
            self.bits.bytes.extend(recent.to_le_bytes());
        }
        for at in (from..to).step_by(FRAME) {
            self.bits.bytes.extend(&data[at..to.min(at + FRAME)]);
            if (to - from) % 2 == 1 && at + FRAME >= to {
                self.bits.bytes.push(0);
            }
            frames.push(std::mem::take(&mut self.bits.bytes));
        }
        (from..to).for_each(|at| self.note(data, at));
    }

    fn header(&mut self, kind: u32, len: usize) {
        self.bits.put(kind, 3);
        self.bits.put((len >> 8) as u32, 16);
        self.bits.put(len as u32 & 0xff, 8);
    }

    fn block(&mut self, data: &[u8], from: usize, to: usize, is_aligned: bool, frames: &mut Vec<Vec<u8>>) {
        let tokens: Vec<Vec<Token>> =
            (from..to).step_by(FRAME).map(|at| self.tokens(data, at, to.min(at + FRAME))).collect();
        let (mut main, mut lengths, mut aligned) = (vec![0; self.main.len()], vec![0; LENGTHS], vec![0; 8]);
        for token in tokens.iter().flatten() {
            match token {
                Token::Byte(byte) => main[usize::from(*byte)] += 1,
                Token::Match(len, slot, extra) => {
                    main[LITERALS + slot * 8 + (len - 2).min(7)] += 1;
                    if *len >= 9 {
                        lengths[len - 9] += 1;
                    }
                    if extra_bits(*slot) >= 3 {
                        aligned[(extra & 7) as usize] += 1;
                    }
                }
            }
        }
        self.header(if is_aligned { 2 } else { 1 }, to - from);
        let aligned = code_lens(&aligned, 7, true);
        if is_aligned {
            aligned.iter().for_each(|len| self.bits.put(u32::from(*len), 3));
        }
        let (main_lens, length_lens) = (code_lens(&main, 16, true), code_lens(&lengths, 16, false));
        let (old_main, old_lengths) = (std::mem::take(&mut self.main), std::mem::take(&mut self.lengths));
        self.bits.lens(&old_main[..LITERALS], &main_lens[..LITERALS]);
        self.bits.lens(&old_main[LITERALS..], &main_lens[LITERALS..]);
        self.bits.lens(&old_lengths, &length_lens);
        let (main, lengths, low) = (codes(&main_lens), codes(&length_lens), codes(&aligned));
        for frame in tokens {
            for token in frame {
                match token {
                    Token::Byte(byte) => self.bits.code(main[usize::from(byte)]),
                    Token::Match(len, slot, extra) => {
                        self.bits.code(main[LITERALS + slot * 8 + (len - 2).min(7)]);
                        if len >= 9 {
                            self.bits.code(lengths[len - 9]);
                        }
                        match extra_bits(slot) {
                            bits if is_aligned && bits >= 3 => {
                                self.bits.put(extra >> 3, bits - 3);
                                self.bits.code(low[(extra & 7) as usize]);
                            }
                            bits => self.bits.put(extra, bits),
                        }
                    }
                }
            }
            self.bits.align(false);
            frames.push(std::mem::take(&mut self.bits.bytes));
        }
        (self.main, self.lengths) = (main_lens, length_lens);
    }

    /// The longest matches, first come first served.
    fn tokens(&mut self, data: &[u8], from: usize, to: usize) -> Vec<Token> {
        let (mut tokens, mut at) = (Vec::new(), from);
        while at < to {
            let most = LONGEST.min(to - at);
            let len_at = |offset: usize| match offset <= at && offset <= self.window {
                true => (0..most).take_while(|&i| data[at + i] == data[at + i - offset]).count(),
                false => 0,
            };
            let again = (0..3).map(|i| (len_at(self.recent[i] as usize), i)).max_by_key(|(len, i)| (*len, 2 - i));
            let (mut best, mut offset) = (0, 0);
            let mut earlier = hash(data, at).map_or(usize::MAX, |h| self.heads[h]);
            for _ in 0..TRIES {
                if earlier == usize::MAX || at - earlier > self.window {
                    break;
                }
                let len = len_at(at - earlier);
                if len > best {
                    (best, offset) = (len, at - earlier);
                }
                earlier = self.chain[earlier];
            }
            let token = match again {
                Some((len, i)) if len >= 2 && len + 1 >= best => {
                    self.recent.swap(0, i);
                    Token::Match(len, i, 0)
                }
                _ if best >= 3 => {
                    self.recent = [offset as u32, self.recent[0], self.recent[1]];
                    let (slot, extra) = slot_of(offset as u32);
                    Token::Match(best, slot, extra)
                }
                _ => Token::Byte(data[at]),
            };
            let len = if let Token::Match(len, ..) = token { len } else { 1 };
            (at..at + len).for_each(|at| self.note(data, at));
            at += len;
            tokens.push(token);
        }
        tokens
    }

    fn note(&mut self, data: &[u8], at: usize) {
        if let Some(hash) = hash(data, at) {
            self.chain[at] = self.heads[hash];
            self.heads[hash] = at;
        }
    }
}

fn hash(data: &[u8], at: usize) -> Option<usize> {
    let next = data.get(at..at + 3)?;
    let word = u32::from(next[0]) | u32::from(next[1]) << 8 | u32::from(next[2]) << 16;
    Some((word.wrapping_mul(0x9e37_79b1) >> 16) as usize)
}

fn extra_bits(slot: usize) -> u32 {
    match slot {
        0..4 => 0,
        4..36 => (slot as u32 - 2) / 2,
        _ => 17,
    }
}

/// The slot of an offset, and what follows of it.
fn slot_of(offset: u32) -> (usize, u32) {
    let formatted = offset + 2;
    let (mut slot, mut first) = (3, 3);
    while formatted >= first + (1 << extra_bits(slot)) {
        first += 1 << extra_bits(slot);
        slot += 1;
    }
    (slot, formatted - first)
}

/// Makes the distances of calls absolute, in each frame but its last ten bytes.
fn make_absolute(data: &mut [u8]) {
    let size = data.len() as i32;
    for (number, frame) in data.chunks_mut(FRAME).enumerate() {
        let mut at = 0;
        while at + 10 < frame.len() {
            if frame[at] != 0xe8 {
                at += 1;
                continue;
            }
            let here = (number * FRAME + at) as i32;
            let distance = i32::from_le_bytes([frame[at + 1], frame[at + 2], frame[at + 3], frame[at + 4]]);
            let absolute = match distance {
                d if (-here..size - here).contains(&d) => d + here,
                d if (size - here..size).contains(&d) => d - size,
                d => d,
            };
            frame[at + 1..at + 5].copy_from_slice(&absolute.to_le_bytes());
            at += 5;
        }
    }
}

/// Lengths of a complete code of at most `most` bits; of at least two symbols, or of none where that may be.
fn code_lens(counts: &[u32], most: u8, must_be: bool) -> Vec<u8> {
    let mut counts = counts.to_vec();
    let used = counts.iter().filter(|c| **c > 0).count();
    if used == 0 && !must_be {
        return vec![0; counts.len()];
    }
    let missing = 2usize.saturating_sub(used);
    counts.iter_mut().filter(|c| **c == 0).take(missing).for_each(|c| *c = 1);
    loop {
        let lens = lens_of(&counts);
        if lens.iter().all(|len| *len <= most) {
            return lens;
        }
        counts.iter_mut().filter(|c| **c > 0).for_each(|c| *c = *c / 2 + 1);
    }
}

fn lens_of(counts: &[u32]) -> Vec<u8> {
    use std::cmp::Reverse;
    use std::collections::BinaryHeap;
    let mut heap: BinaryHeap<Reverse<(u64, usize)>> =
        counts.iter().enumerate().filter(|(_, c)| **c > 0).map(|(i, c)| Reverse((u64::from(*c), i))).collect();
    let mut parents: Vec<usize> = vec![usize::MAX; counts.len()];
    while let (Some(Reverse(a)), Some(Reverse(b))) = (heap.pop(), heap.pop()) {
        let number = parents.len();
        parents.push(usize::MAX);
        (parents[a.1], parents[b.1]) = (number, number);
        if heap.is_empty() {
            break;
        }
        heap.push(Reverse((a.0 + b.0, number)));
    }
    let depth = |mut at: usize| {
        let mut depth = 0;
        while parents[at] != usize::MAX {
            (at, depth) = (parents[at], depth + 1);
        }
        depth
    };
    (0..counts.len()).map(depth).collect()
}

/// Each symbol's code and its length.
fn codes(lens: &[u8]) -> Vec<(u32, u32)> {
    let (mut codes, mut next) = (vec![(0, 0); lens.len()], 0u32);
    for len in 1..=16u8 {
        next <<= 1;
        for (symbol, _) in lens.iter().enumerate().filter(|(_, l)| **l == len) {
            codes[symbol] = (next, len.into());
            next += 1;
        }
    }
    codes
}

/// Words of 16 bits, lowest byte first, whose highest bit comes first.
#[derive(Default)]
struct Bits {
    bytes: Vec<u8>,
    word: u32,
    held: u32,
}

impl Bits {
    fn put(&mut self, value: u32, count: u32) {
        for bit in (0..count).rev() {
            self.word = self.word << 1 | (value >> bit & 1);
            self.held += 1;
            if self.held == 16 {
                self.bytes.extend((self.word as u16).to_le_bytes());
                (self.word, self.held) = (0, 0);
            }
        }
    }

    fn code(&mut self, (code, len): (u32, u32)) {
        self.put(code, len);
    }

    fn align(&mut self, or_a_whole_one: bool) {
        match self.held {
            0 if or_a_whole_one => self.put(0, 16),
            0 => {}
            held => self.put(0, 16 - held),
        }
    }

    /// Lengths as differences to those before; runs of zeros are counted.
    fn lens(&mut self, old: &[u8], new: &[u8]) {
        let (mut symbols, mut at) = (Vec::new(), 0);
        while at < new.len() {
            let zeros = new[at..].iter().take_while(|len| **len == 0).count();
            let same = new[at..].iter().zip(&old[at..]).take_while(|(n, o)| *n == &new[at] && *o == &old[at]).count();
            let difference = |at: usize| usize::from((old[at] + 17 - new[at]) % 17);
            let (symbol, extra, count) = match (zeros, same) {
                (20.., _) => (18, (zeros.min(51) - 20, 5), zeros.min(51)),
                (4.., _) => (17, (zeros.min(19) - 4, 4), zeros.min(19)),
                (_, 4..) => (19, (same.min(5) - 4, 1), same.min(5)),
                _ => (difference(at), (0, 0), 1),
            };
            symbols.push((symbol, extra));
            if symbol == 19 {
                symbols.push((difference(at), (0, 0)));
            }
            at += count;
        }
        let mut counts = vec![0; 20];
        symbols.iter().for_each(|(symbol, _)| counts[*symbol] += 1);
        let lens = code_lens(&counts, 15, true);
        lens.iter().for_each(|len| self.put(u32::from(*len), 4));
        let codes = codes(&lens);
        for (symbol, (extra, bits)) in symbols {
            self.code(codes[symbol]);
            self.put(extra as u32, bits);
        }
    }
}
