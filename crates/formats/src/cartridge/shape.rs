//! How long a ROM is, compared with what it declares and with its own content.

use decanter_core::rom::{Declared, Shape};

/// Whether bytes begin with another ROM of the same family.
pub type IsRom = fn(&[u8]) -> bool;

/// Runs of one byte at the end of a ROM that are shorter are no padding worth a word.
const LEAST_PADDING: usize = 4096;

/// Compares a body with its declared length; without one, with `natural`, the length that its chip would have.
pub fn shape(body: &[u8], declared: Option<Declared>, natural: u64, is_rom: IsRom) -> Shape {
    let len = body.len() as u64;
    let (most, least) = match declared {
        Some(Declared::UpTo(bytes)) => (bytes, bytes / 2 + 1),
        Some(declared) => (declared.bytes(), declared.bytes()),
        None => (len, natural),
    };
    if len < least {
        return Shape::Trimmed { missing: most.max(natural).max(least) - len };
    }
    if len > most {
        return beyond(body, most, is_rom);
    }
    if let Some(period) = period(body) {
        return Shape::Overdumped { from: period as u64 };
    }
    match declared {
        Some(Declared::Exact(_) | Declared::UpTo(_)) => Shape::Complete,
        _ => match padding(body) {
            Some((from, byte)) if body.len() - from >= LEAST_PADDING => Shape::Padded { from: from as u64, byte },
            _ => Shape::Complete,
        },
    }
}

/// What stands after the declared length.
fn beyond(body: &[u8], most: u64, is_rom: IsRom) -> Shape {
    let (inside, tail) = body.split_at(most as usize);
    if inside.is_empty() {
        return Shape::Trailing { from: most, is_rom: false };
    }
    if uniform(tail) {
        return Shape::Padded { from: most, byte: tail[0] };
    }
    if tail.chunks(inside.len()).all(|piece| piece == &inside[..piece.len()]) {
        return Shape::Overdumped { from: most };
    }
    Shape::Trailing { from: most, is_rom: is_rom(tail) }
}

/// Whether all bytes are the same.
pub fn uniform(bytes: &[u8]) -> bool {
    bytes.first().is_none_or(|first| bytes.iter().all(|b| b == first))
}

/// Where the run of one value (0x00 or 0xff) at the end begins, and that value.
pub fn padding(body: &[u8]) -> Option<(usize, u8)> {
    let byte = *body.last().filter(|b| matches!(b, 0 | 0xff))?;
    let used = body.iter().rposition(|&b| b != byte).map_or(0, |at| at + 1);
    Some((used, byte))
}

/// The shortest power-of-two part of the body that all of it repeats, if it is not the body itself.
fn period(body: &[u8]) -> Option<usize> {
    if !body.len().is_power_of_two() || uniform(body) {
        return None;
    }
    let mut len = body.len();
    while len >= 2048 && body[..len / 2] == body[len / 2..len] {
        len /= 2;
    }
    (len < body.len()).then_some(len)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn noise(len: usize) -> Vec<u8> {
        (0..len as u32).map(|i| (i.wrapping_mul(2_654_435_761) >> 13) as u8 | 1).collect()
    }

    #[test]
    fn shapes() {
        let never: IsRom = |_| false;
        let rom = noise(0x8000);
        let exact = Some(Declared::Exact(0x8000));
        assert_eq!(shape(&rom, exact, 0, never), Shape::Complete);
        assert_eq!(shape(&rom[..0x7000], exact, 0, never), Shape::Trimmed { missing: 0x1000 });
        let twice = [rom.clone(), rom.clone()].concat();
        assert_eq!(shape(&twice, exact, 0, never), Shape::Overdumped { from: 0x8000 });
        assert_eq!(shape(&twice, None, 0x10000, never), Shape::Overdumped { from: 0x8000 });
        let padded = [rom.clone(), vec![0xff; 0x8000]].concat();
        assert_eq!(shape(&padded, exact, 0, never), Shape::Padded { from: 0x8000, byte: 0xff });
        assert_eq!(shape(&padded, None, 0x10000, never), Shape::Padded { from: 0x8000, byte: 0xff });
        let other = [rom.clone(), noise(0x9000)[0x1000..].to_vec()].concat();
        assert_eq!(shape(&other, exact, 0, |_| true), Shape::Trailing { from: 0x8000, is_rom: true });
        assert_eq!(shape(&rom, Some(Declared::UpTo(0x8000)), 0, never), Shape::Complete);
        assert_eq!(shape(&rom[..0x6000], Some(Declared::UpTo(0x8000)), 0, never), Shape::Complete);
        assert_eq!(shape(&rom[..0x4000], Some(Declared::UpTo(0x8000)), 0, never), Shape::Trimmed { missing: 0x4000 });
        assert_eq!(shape(&rom, None, 0x10000, never), Shape::Trimmed { missing: 0x8000 });
    }
}
