//! The extended header of a program. Layout: docs/formats/n3ds-content.md.

use super::header::EXTENDED;
use crate::num::{le16, le32, le64};

/// The extended header with the access descriptor.
pub type Extended = [u8; EXTENDED as usize];

/// Lower word of the title id of the firmware that GBA mode titles need.
pub const GBA_FIRMWARE: u32 = 0x202;
/// Where the flags stand, and their bits.
const FLAGS: usize = 0x0d;
const PACKED_CODE: u8 = 1;
const ON_CARD: u8 = 2;

/// Whether `.code` is packed.
pub fn code_is_packed(extended: &Extended) -> bool {
    extended[FLAGS] & PACKED_CODE != 0
}

/// Revision of a title that was made again.
pub fn remaster(extended: &Extended) -> u16 {
    le16(extended, 0x0e)
}

/// Bytes of save data.
pub fn save_len(extended: &Extended) -> u64 {
    le64(extended, 0x1c0)
}

/// Lower word of the title id of the firmware it needs.
pub fn firmware(extended: &Extended) -> u32 {
    le32(extended, 0x208)
}

/// Says that the program runs from the SD card, or from the slot.
pub fn set_on_card(extended: &mut Extended, is_on_card: bool) {
    match is_on_card {
        true => extended[FLAGS] |= ON_CARD,
        false => extended[FLAGS] &= !ON_CARD,
    }
}

/// Title ids that it depends on, as they stand in the package's meta section.
pub fn dependencies(extended: &Extended) -> &[u8] {
    &extended[0x40..0x1c0]
}

/// Sets the title id wherever it stands.
pub fn set_title_id(extended: &mut Extended, title_id: u64) {
    let bytes = title_id.to_le_bytes();
    for at in [0x1c8, 0x200, 0x600] {
        extended[at..at + 8].copy_from_slice(&bytes);
    }
}
