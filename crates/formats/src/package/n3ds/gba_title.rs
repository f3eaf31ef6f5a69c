//! A title of the GBA mode, made from nothing: header and extended header of its content.
//! Layout, and what is not sure: docs/formats/n3ds-gba.md.

use super::gba_mode::SaveType;
use super::ncch::Parts;
use super::ncch::exheader::{self, Extended, GBA_FIRMWARE};
use super::ncch::header::{FLAGS_AT, NO_ROMFS, PLAIN};
use super::smdh::Smdh;
use decanter_core::source::SourceRef;

/// Where programs are loaded, and bytes of a page.
const TEXT: u32 = 0x0010_0000;
const PAGE: u32 = 0x1000;
/// Descriptors of the kernel that every program has: size of its handle table, least version of the kernel, flags.
const KERNEL: [u32; 3] = [0xfe00_0200, 0xfc00_022c, 0xff00_0101];
/// Descriptors that a program has room for.
const MOST_KERNEL: usize = 28;
/// Unit in which room for saves is reserved.
const SAVE_UNIT: u64 = 64 << 10;

/// What a title is made of.
pub struct Title<'a> {
    /// Its id.
    pub id: u64,
    /// The ROM with the settings after it.
    pub code: Vec<u8>,
    /// The ROM's own code of four characters, for the product code.
    pub game_code: &'a str,
    /// Names and icons.
    pub label: &'a Smdh,
    /// Memory of the save.
    pub save: SaveType,
    /// The logo region of a content of the user's own.
    pub logo: Option<SourceRef>,
}

/// Room for saves: two copies, each with its header.
pub fn save_room(save: SaveType) -> u64 {
    match save.bytes() {
        0 => 0,
        bytes => (2 * (u64::from(bytes) + super::gba_mode::SAVE_HEADER as u64)).next_multiple_of(SAVE_UNIT),
    }
}

/// The parts of the content of a title.
pub fn parts(title: Title<'_>) -> Parts {
    let mut header = [0; 0x200];
    header[0x108..0x110].copy_from_slice(&title.id.to_le_bytes());
    header[0x110..0x112].copy_from_slice(b"00");
    header[0x112] = 2;
    header[0x118..0x120].copy_from_slice(&title.id.to_le_bytes());
    let code: String = title.game_code.chars().filter(char::is_ascii_alphanumeric).take(4).collect();
    let product = format!("CTR-N-{code:0<4}");
    header[0x150..0x150 + product.len()].copy_from_slice(product.as_bytes());
    header[0x100..0x104].copy_from_slice(b"NCCH");
    // Platform 1, a program without files.
    (header[FLAGS_AT + 4], header[FLAGS_AT + 5], header[FLAGS_AT + 7]) = (1, 2, PLAIN | NO_ROMFS);
    let extended = extended(&title);
    let exefs = vec![(".code".to_owned(), title.code), ("icon".to_owned(), title.label.bytes().to_vec())];
    Parts { header, extended: Some(extended.to_vec()), logo: title.logo, plain: None, exefs, romfs: None }
}

fn extended(title: &Title<'_>) -> Extended {
    let mut e = [0; 0x800];
    e[..8].copy_from_slice(b"gba-mode");
    exheader::set_on_card(&mut e, true);
    let len = title.code.len() as u32;
    let mut word = |at: usize, value: u32| e[at..at + 4].copy_from_slice(&value.to_le_bytes());
    word(0x10, TEXT);
    word(0x14, len.div_ceil(PAGE));
    word(0x18, len);
    word(0x1c, 4 * PAGE);
    word(0x1c0, save_room(title.save) as u32);
    // Rights, and their limits in the access descriptor.
    for at in [0x200, 0x600] {
        word(at + 8, GBA_FIRMWARE);
        for index in 0..MOST_KERNEL {
            word(at + 0x170 + index * 4, KERNEL.get(index).copied().unwrap_or(u32::MAX));
        }
    }
    // Priority, and version of the descriptors for the other processor.
    for at in [0x200, 0x600] {
        (e[at + 0xf], e[at + 0x1ff]) = (0x30, 2);
    }
    exheader::set_title_id(&mut e, title.id);
    e
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fields_by_hand() {
        let label = Smdh::new();
        let id = 0x0004_0000_0c12_3400;
        let parts = parts(Title {
            id,
            code: vec![0; 0x1234],
            game_code: "MOTH",
            label: &label,
            save: SaveType::Sram,
            logo: None,
        });
        assert_eq!(parts.header[0x150..0x15a], *b"CTR-N-MOTH");
        let e = parts.extended.unwrap();
        assert_eq!(e[0x0d], 2);
        assert_eq!(e[0x10..0x1c], [0, 0, 0x10, 0, 2, 0, 0, 0, 0x34, 0x12, 0, 0]);
        assert_eq!(e[0x1c0..0x1c8], [0, 0, 2, 0, 0, 0, 0, 0], "two copies of 32 KiB with headers: 128 KiB");
        assert_eq!(e[0x208..0x20c], [2, 2, 0, 0]);
        assert_eq!([&e[0x1c8..0x1d0], &e[0x200..0x208], &e[0x600..0x608]], [&id.to_le_bytes(); 3]);
    }
}
