//! A start program for a disk: it lists the programs on it, waits for a letter, loads the one that is meant and starts it. It is
//! ours to the last byte, in the language of the 6502; of the machine it uses what its maker documented of the KERNAL, and of
//! BASIC what RUN does.
//!
//! Layout: a line of BASIC with SYS, code, the texts of the pages, one entry for each program. What loads runs in the tape buffer,
//! where the program that comes does not go.

use super::assembler::{Code, Form};
use super::petscii::MOST_NAME;
use super::prg::start;
use std::ops::Range;

/// Where programs of BASIC begin.
const BASIC: u16 = 0x0801;
/// Where the code begins, behind its line of BASIC: SYS 2061.
const CODE: u16 = 0x080d;
/// Where what loads stands: the tape buffer.
const LOADER: u16 = 0x033c;
/// The bytes of it.
const BUFFER: Range<u32> = 0x033c..0x03fc;
/// Programs on a page: a letter each.
pub const PAGE: usize = 20;
/// The most programs that are listed.
pub const MOST: usize = 240;

// Zero page: a pointer that nobody else uses, the device that was used last, start and end of a program.
const POINTER: u8 = 0xfb;
const DEVICE: u8 = 0xba;
const START: u8 = 0x2b;
const END: u8 = 0x2d;

// The KERNAL's own calls, and what RUN is made of in BASIC.
const CHROUT: u16 = 0xffd2;
const GETIN: u16 = 0xffe4;
const SETLFS: u16 = 0xffba;
const SETNAM: u16 = 0xffbd;
const LOAD: u16 = 0xffd5;
const LINK: u16 = 0xa533;
const CLEAR: u16 = 0xa659;
const RUN: u16 = 0xa7ae;
const ERROR: u16 = 0xa437;

// Signs that move what is printed.
const HOME: u8 = 0x93;
const RETURN: u8 = 0x0d;
const SPACE: u8 = 0x20;
const STOP: u8 = 0x03;

// Instructions by their names in the processor's manual.
const ADC_IMM: u8 = 0x69;
const BCC: u8 = 0x90;
const BCS: u8 = 0xb0;
const BEQ: u8 = 0xf0;
const BNE: u8 = 0xd0;
const BPL: u8 = 0x10;
const CLC: u8 = 0x18;
const CMP_IMM: u8 = 0xc9;
const CPX_IMM: u8 = 0xe0;
const DEX: u8 = 0xca;
const DEY: u8 = 0x88;
const INC_ABS: u8 = 0xee;
const INC_ZERO: u8 = 0xe6;
const JMP: u8 = 0x4c;
const JMP_IND: u8 = 0x6c;
const JSR: u8 = 0x20;
const LDA_ABS: u8 = 0xad;
const LDA_ABS_X: u8 = 0xbd;
const LDA_IMM: u8 = 0xa9;
const LDA_IND_Y: u8 = 0xb1;
const LDX_ABS: u8 = 0xae;
const LDX_IMM: u8 = 0xa2;
const LDX_ZERO: u8 = 0xa6;
const LDY_ABS: u8 = 0xac;
const LDY_IMM: u8 = 0xa0;
const LDY_ZERO: u8 = 0xa4;
const RTS: u8 = 0x60;
const SBC_IMM: u8 = 0xe9;
const SEC: u8 = 0x38;
const STA_ABS: u8 = 0x8d;
const STA_ABS_X: u8 = 0x9d;
const STA_ABS_Y: u8 = 0x99;
const STA_ZERO: u8 = 0x85;
const STX_ZERO: u8 = 0x86;
const STY_ZERO: u8 = 0x84;
const TAX: u8 = 0xaa;

/// A program that is listed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    name: Vec<u8>,
    load: u16,
}

impl Entry {
    /// The entry of a program by its name on the disk and its content.
    ///
    /// # Errors
    /// Why it cannot be started from a menu, in words.
    pub fn of(name: &[u8], content: &[u8]) -> Result<Self, String> {
        let own = start(content).ok_or("it is too short to be a program")?;
        let from = u32::from(own.load);
        let end = from + content.len() as u32 - 2;
        if from < BUFFER.end && BUFFER.start < end {
            return Err(format!("it loads from ${from:04X} on, over what would load it"));
        }
        if from < 0x0200 {
            return Err(format!("it loads from ${from:04X} on, into what the machine itself needs"));
        }
        let name = name.get(..MOST_NAME).unwrap_or(name).to_vec();
        Ok(Self { name, load: own.load })
    }

    /// How it is started, in words.
    pub fn starts(&self) -> String {
        match self.load {
            BASIC => "RUN".into(),
            load => format!("${load:04X}"),
        }
    }
}

/// The bytes of what loads, with room for what it loads: where to, length of the name, where it starts, the name.
fn loader() -> Vec<u8> {
    let mut c = Code::new(LOADER);
    c.at(LDA_ABS, "length", 0);
    c.half(LDX_IMM, "name", Form::Low);
    c.half(LDY_IMM, "name", Form::High);
    call(&mut c, JSR, SETNAM);
    c.put(&[LDA_IMM, 1, LDX_ZERO, DEVICE]);
    // From a tape or a menu that was typed in, the first drive is meant.
    c.put(&[CPX_IMM, 8]);
    c.branch(BCS, "drive");
    c.put(&[LDX_IMM, 8]);
    c.label("drive");
    c.at(LDY_ABS, "where", 0);
    call(&mut c, JSR, SETLFS);
    c.put(&[LDA_IMM, 0, LDX_ZERO, START, LDY_ZERO, START + 1]);
    call(&mut c, JSR, LOAD);
    c.branch(BCS, "failed");
    c.at(LDA_ABS, "where", 0);
    c.branch(BNE, "machine");
    c.put(&[STX_ZERO, END, STY_ZERO, END + 1]);
    call(&mut c, JSR, LINK);
    call(&mut c, JSR, CLEAR);
    call(&mut c, JMP, RUN);
    c.label("machine");
    c.at(JMP_IND, "start", 0);
    c.label("failed");
    c.put(&[TAX]);
    call(&mut c, JMP, ERROR);
    c.label("where");
    c.put(&[0]);
    c.label("length");
    c.put(&[0]);
    c.label("start");
    c.put(&[0, 0]);
    c.label("name");
    c.finish()
}

fn call(code: &mut Code, op: u8, at: u16) {
    let [low, high] = at.to_le_bytes();
    code.put(&[op, low, high]);
}

/// Bytes of an entry: where to, length of the name, where it starts, and the name.
const ENTRY: u8 = 4 + MOST_NAME as u8;

/// The start program for these programs, of which at most [`MOST`] are listed.
pub fn program(title: &str, entries: &[Entry]) -> Vec<u8> {
    let entries = &entries[..entries.len().min(MOST)];
    let pages: Vec<&[Entry]> = if entries.is_empty() { vec![&[]] } else { entries.chunks(PAGE).collect() };
    let loader = loader();
    let slots = LOADER + loader.len() as u16 - 4;
    let mut c = Code::new(BASIC);
    // 10 SYS 2061
    c.put(&[0x0b, 0x08, 10, 0, 0x9e, b'2', b'0', b'6', b'1', 0, 0, 0]);
    debug_assert_eq!(c.here(), CODE);
    c.label("show");
    c.at(LDX_ABS, "page", 0);
    c.at(LDA_ABS_X, "text low", 0);
    c.put(&[STA_ZERO, POINTER]);
    c.at(LDA_ABS_X, "text high", 0);
    c.put(&[STA_ZERO, POINTER + 1]);
    c.label("print");
    c.put(&[LDY_IMM, 0, LDA_IND_Y, POINTER]);
    c.branch(BEQ, "key");
    call(&mut c, JSR, CHROUT);
    c.put(&[INC_ZERO, POINTER]);
    c.branch(BNE, "print");
    c.put(&[INC_ZERO, POINTER + 1]);
    c.branch(BNE, "print");
    c.label("key");
    call(&mut c, JSR, GETIN);
    c.put(&[CMP_IMM, 0]);
    c.branch(BEQ, "key");
    c.put(&[CMP_IMM, STOP]);
    c.branch(BNE, "go on");
    c.put(&[RTS]);
    c.label("go on");
    c.put(&[CMP_IMM, SPACE]);
    c.branch(BNE, "letter");
    c.at(INC_ABS, "page", 0);
    c.at(LDA_ABS, "page", 0);
    c.put(&[CMP_IMM, pages.len() as u8]);
    c.branch(BCC, "show");
    c.put(&[LDA_IMM, 0]);
    c.at(STA_ABS, "page", 0);
    c.branch(BEQ, "show");
    c.label("letter");
    c.put(&[SEC, SBC_IMM, b'A']);
    c.branch(BCC, "key");
    c.put(&[CMP_IMM, PAGE as u8]);
    c.branch(BCS, "key");
    c.at(LDX_ABS, "page", 0);
    c.branch(BEQ, "found");
    c.label("count");
    c.put(&[CLC, ADC_IMM, PAGE as u8, DEX]);
    c.branch(BNE, "count");
    c.label("found");
    c.put(&[CMP_IMM, entries.len() as u8]);
    c.branch(BCS, "key");
    c.put(&[TAX]);
    c.at(LDA_ABS_X, "entry low", 0);
    c.put(&[STA_ZERO, POINTER]);
    c.at(LDA_ABS_X, "entry high", 0);
    c.put(&[STA_ZERO, POINTER + 1]);
    // What loads goes where it is safe, and the entry behind it.
    c.put(&[LDX_IMM, loader.len() as u8 - 1]);
    c.label("copy");
    c.at(LDA_ABS_X, "loader", 0);
    let [low, high] = LOADER.to_le_bytes();
    c.put(&[STA_ABS_X, low, high, DEX]);
    c.branch(BPL, "copy");
    c.put(&[LDY_IMM, ENTRY - 1]);
    c.label("fill");
    let [low, high] = slots.to_le_bytes();
    c.put(&[LDA_IND_Y, POINTER, STA_ABS_Y, low, high, DEY]);
    c.branch(BPL, "fill");
    call(&mut c, JMP, LOADER);
    c.label("page");
    c.put(&[0]);
    c.label("loader");
    c.put(&loader);
    tables(c, title, entries, &pages)
}

/// Texts and entries, with the tables of where they stand.
fn tables(mut c: Code, title: &str, entries: &[Entry], pages: &[&[Entry]]) -> Vec<u8> {
    let counts = [pages.len(), pages.len(), entries.len(), entries.len()];
    let texts: Vec<Vec<u8>> =
        pages.iter().enumerate().map(|(number, page)| page_text(title, number, page, pages.len())).collect();
    let first = c.here() + counts.iter().sum::<usize>() as u16;
    let mut at = first;
    let mut place = |len: usize| {
        let own = at;
        at += len as u16;
        own
    };
    let of_texts: Vec<u16> = texts.iter().map(|text| place(text.len())).collect();
    let of_entries: Vec<u16> = entries.iter().map(|_| place(ENTRY.into())).collect();
    for (name, half, places) in [
        ("text low", 0, &of_texts),
        ("text high", 1, &of_texts),
        ("entry low", 0, &of_entries),
        ("entry high", 1, &of_entries),
    ] {
        c.label(name);
        places.iter().for_each(|place| c.put(&[place.to_le_bytes()[half]]));
    }
    texts.iter().for_each(|text| c.put(text));
    for entry in entries {
        let [low, high] = entry.load.to_le_bytes();
        c.put(&[u8::from(entry.load != BASIC), entry.name.len() as u8, low, high]);
        let mut name = entry.name.clone();
        name.resize(MOST_NAME, 0);
        c.put(&name);
    }
    let [low, high] = BASIC.to_le_bytes();
    [vec![low, high], c.finish()].concat()
}

/// What a page shows.
fn page_text(title: &str, number: usize, page: &[Entry], pages: usize) -> Vec<u8> {
    // What would move or colour what is printed is shown as a question mark.
    let shown = |byte: &u8| if matches!(byte, 0..0x20 | 0x22 | 0x80..0xa0) { b'?' } else { *byte };
    let mut text = vec![HOME, RETURN, SPACE];
    text.extend(title.to_uppercase().bytes().filter(u8::is_ascii).map(|b| shown(&b)).take(36));
    text.extend([RETURN, RETURN]);
    for (index, entry) in page.iter().enumerate() {
        text.extend([SPACE, b'A' + index as u8, SPACE, SPACE]);
        text.extend(entry.name.iter().map(shown));
        text.push(RETURN);
    }
    text.push(RETURN);
    if pages > 1 {
        text.extend(format!(" SPACE: MORE ({} OF {pages})", number + 1).bytes());
    }
    text.extend([RETURN, 0]);
    text
}
