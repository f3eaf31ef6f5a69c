//! The two stages, written in the processor's own language by a small assembler.

use super::moment::{LOAD, MEMORY, Snapshot};
use crate::disk::cbm::assembler::{Code, Form};

// The instructions that are used, by their names in the processor's manual.
const LDA_IMM: u8 = 0xa9;
const LDA_ABS: u8 = 0xad;
const LDA_ABS_X: u8 = 0xbd;
const LDX_IMM: u8 = 0xa2;
const LDY_IMM: u8 = 0xa0;
const STA_ABS: u8 = 0x8d;
const STA_ABS_X: u8 = 0x9d;
const STA_ZERO: u8 = 0x85;
const INC_ABS: u8 = 0xee;
const BNE: u8 = 0xd0;
const BEQ: u8 = 0xf0;
const BMI: u8 = 0x30;
const BPL: u8 = 0x10;
const BCS: u8 = 0xb0;
const JSR: u8 = 0x20;
const JMP: u8 = 0x4c;
const RTS: u8 = 0x60;
const TAX: u8 = 0xaa;
const TXA: u8 = 0x8a;
const TXS: u8 = 0x9a;
const DEX: u8 = 0xca;
const CLC: u8 = 0x18;
const PHA: u8 = 0x48;
const RTI: u8 = 0x40;
const SEI: u8 = 0x78;
const CMP_IMM: u8 = 0xc9;
const CLD: u8 = 0xd8;

/// The last stage, to stand at `base`: unpacks from `packed` on until it comes to `end`, then goes on where the moment was
/// taken.
pub(super) fn last_stage(moment: &Snapshot, base: u16, packed: u16, end: u16) -> Vec<u8> {
    let mut c = Code::new(base);
    c.label("step");
    let [low, high] = end.to_le_bytes();
    c.at(LDA_ABS, "put", 1);
    c.put(&[CMP_IMM, low]);
    c.branch(BNE, "more");
    c.at(LDA_ABS, "put", 2);
    c.put(&[CMP_IMM, high]);
    c.branch(BEQ, "end");
    c.label("more");
    c.at(JSR, "get", 0);
    c.put(&[TAX]);
    c.branch(BEQ, "control");
    c.branch(BMI, "copy");
    c.label("literal");
    c.at(JSR, "get", 0);
    c.at(JSR, "put", 0);
    c.put(&[DEX]);
    c.branch(BNE, "literal");
    c.branch(BEQ, "step");

    c.label("copy");
    c.put(&[0xe0, 0xc0]); // CPX #$C0
    c.branch(BCS, "far");
    // From the place that is written, so many back: adding the complement subtracts one more than the byte.
    c.at(JSR, "get", 0);
    c.put(&[0x49, 0xff, CLC]); // EOR #$FF
    c.at(0x6d, "put", 1); // ADC
    c.at(STA_ABS, "from", 1);
    c.at(LDA_ABS, "put", 2);
    c.put(&[0x69, 0xff]); // ADC #$FF
    c.at(STA_ABS, "from", 2);
    c.put(&[TXA, 0x29, 0x3f, CLC, 0x69, 2, TAX]); // AND #$3F, ADC #2
    c.branch(BNE, "from");
    c.label("far");
    c.at(JSR, "get", 0);
    c.at(STA_ABS, "from", 1);
    c.at(JSR, "get", 0);
    c.at(STA_ABS, "from", 2);
    c.put(&[TXA, 0x29, 0x3f, CLC, 0x69, 3, TAX]);
    c.label("from");
    c.put(&[LDA_ABS, 0, 0]);
    c.at(JSR, "put", 0);
    c.at(INC_ABS, "from", 1);
    c.branch(BNE, "same page");
    c.at(INC_ABS, "from", 2);
    c.label("same page");
    c.put(&[DEX]);
    c.branch(BNE, "from");
    c.branch(BEQ, "step");

    c.label("control");
    c.at(JSR, "get", 0);
    c.at(STA_ABS, "put", 1);
    c.at(JSR, "get", 0);
    c.at(STA_ABS, "put", 2);
    c.at(JMP, "step", 0);

    c.label("end");
    // Chips in sight, for what must not interrupt before; then everything as it was.
    if moment.cia[1].mask != 0 {
        c.put(&[LDA_IMM, 0x35, STA_ZERO, 0x01, LDA_IMM, 0x80 | moment.cia[1].mask, STA_ABS, 0x0d, 0xdd]);
    }
    c.put(&[LDA_IMM, moment.port, STA_ZERO, 0x01, LDA_IMM, moment.direction, STA_ZERO, 0x00]);
    let [low, high] = moment.pc.to_le_bytes();
    c.put(&[LDA_IMM, high, PHA, LDA_IMM, low, PHA, LDA_IMM, moment.p, PHA]);
    c.put(&[LDA_IMM, moment.a, LDX_IMM, moment.x, LDY_IMM, moment.y, RTI]);

    c.label("get");
    c.put(&[LDA_ABS]);
    c.put(&packed.to_le_bytes());
    c.at(INC_ABS, "get", 1);
    c.branch(BNE, "got");
    c.at(INC_ABS, "get", 2);
    c.label("got");
    c.put(&[RTS]);
    c.label("put");
    c.put(&[STA_ABS, 2, 0]);
    c.at(INC_ABS, "put", 1);
    c.branch(BNE, "done");
    c.at(INC_ABS, "put", 2);
    c.label("done");
    c.put(&[RTS]);
    c.finish()
}

/// The first stage, which stands where programs begin, with a line of BASIC before it. The packed memory, `packed_len` bytes,
/// follows it.
pub(super) fn first_stage(moment: &Snapshot, last_base: u16, last: &[u8], packed_len: usize) -> Vec<u8> {
    let mut c = Code::new(LOAD as u16);
    // 10 SYS 2061
    c.put(&[0x0b, 0x08, 0x0a, 0x00, 0x9e, b'2', b'0', b'6', b'1', 0, 0, 0]);
    c.put(&[SEI, CLD, LDA_IMM, 0x2f, STA_ZERO, 0x00, LDA_IMM, 0x35, STA_ZERO, 0x01]);
    c.put(&[LDA_IMM, 0x7f, STA_ABS, 0x0d, 0xdc, STA_ABS, 0x0d, 0xdd]);
    c.put(&[LDA_ABS, 0x0d, 0xdc, LDA_ABS, 0x0d, 0xdd]);
    let chips: [(&'static str, u16, usize); 4] = [
        ("vic", 0xd000, moment.vic.len()),
        ("sid", 0xd400, moment.sid.len()),
        ("cia1", 0xdc00, moment.cia[0].registers.len().min(8)),
        ("cia2", 0xdd00, moment.cia[1].registers.len().min(8)),
    ];
    for (name, place, len) in chips.into_iter().filter(|(_, _, len)| *len > 0) {
        let again = ["vic again", "sid again", "cia1 again", "cia2 again"][match name {
            "vic" => 0,
            "sid" => 1,
            "cia1" => 2,
            _ => 3,
        }];
        c.put(&[LDX_IMM, len as u8 - 1]);
        c.label(again);
        c.at(LDA_ABS_X, name, 0);
        c.put(&[STA_ABS_X, place as u8, (place >> 8) as u8, DEX]);
        c.branch(BPL, again);
    }
    // Timers start anew from the values that were set.
    for (cia, page) in moment.cia.iter().zip([0xdc, 0xdd]) {
        for register in [14, 15] {
            if let Some(value) = cia.registers.get(register) {
                c.put(&[LDA_IMM, value | 0x10, STA_ABS, register as u8, page]);
            }
        }
    }
    if moment.cia[0].mask != 0 {
        c.put(&[LDA_IMM, 0x80 | moment.cia[0].mask, STA_ABS, 0x0d, 0xdc]);
    }
    if !moment.colours.is_empty() {
        c.put(&[LDX_IMM, 0]);
        c.label("colour");
        for (page, low, high) in [(0u16, 0xd8, 0xda), (256, 0xd9, 0xdb)] {
            c.at(LDA_ABS_X, "colours", page);
            c.put(&[STA_ABS_X, 0, low, 0x4a, 0x4a, 0x4a, 0x4a, STA_ABS_X, 0, high]); // LSR, four times
        }
        c.put(&[0xe8]); // INX
        c.branch(BNE, "colour");
    }
    // From here on all is RAM. The packed memory goes to the top, its last byte first.
    c.put(&[LDA_IMM, 0x34, STA_ZERO, 0x01]);
    c.half(LDA_IMM, "end", Form::Low);
    c.put(&[STA_ZERO, 0xfb]);
    c.half(LDA_IMM, "end", Form::High);
    c.put(&[STA_ZERO, 0xfc, LDA_IMM, 0, STA_ZERO, 0xfd, STA_ZERO, 0xfe, LDY_IMM, 0]);
    c.label("move");
    c.put(&[0xa5, 0xfb, BNE, 2, 0xc6, 0xfc, 0xc6, 0xfb]); // LDA $FB, BNE, DEC $FC, DEC $FB
    c.put(&[0xa5, 0xfd, BNE, 2, 0xc6, 0xfe, 0xc6, 0xfd]);
    c.put(&[0xb1, 0xfb, 0x91, 0xfd]); // LDA ($FB),Y, STA ($FD),Y
    let [low, high] = (MEMORY.saturating_sub(packed_len) as u16).to_le_bytes();
    c.put(&[0xa5, 0xfd, 0xc9, low]); // CMP
    c.branch(BNE, "move");
    c.put(&[0xa5, 0xfe, 0xc9, high]);
    c.branch(BNE, "move");
    // The last stage goes to its place; the stack pointer is the moment's.
    c.put(&[LDX_IMM, last.len() as u8]);
    c.label("place");
    c.at(LDA_ABS_X, "last", 0);
    let [low, high] = last_base.wrapping_sub(1).to_le_bytes();
    c.put(&[STA_ABS_X, low, high, DEX]);
    c.branch(BNE, "place");
    c.put(&[LDX_IMM, moment.sp, TXS, JMP]);
    c.put(&last_base.to_le_bytes());
    // The byte before the last stage is never copied: the index counts from one.
    c.label("last");
    c.put(&[0]);
    c.put(last);
    let mut vic = moment.vic.clone();
    if let Some(flags) = vic.get_mut(0x19) {
        // Writing ones clears what waits there.
        *flags = 0xff;
    }
    let tables = [
        ("vic", &vic[..]),
        ("sid", &moment.sid),
        ("cia1", &moment.cia[0].registers[..moment.cia[0].registers.len().min(8)]),
        ("cia2", &moment.cia[1].registers[..moment.cia[1].registers.len().min(8)]),
    ];
    for (name, bytes) in tables {
        c.label(name);
        c.put(bytes);
    }
    c.label("colours");
    if !moment.colours.is_empty() {
        let colour = |at: usize| moment.colours.get(at).copied().unwrap_or(0) & 15;
        let both: Vec<u8> = (0..512).map(|i| colour(i) | colour(i + 512) << 4).collect();
        c.put(&both);
    }
    let end = c.here().wrapping_add(packed_len as u16);
    c.known("end", end);
    c.finish()
}
