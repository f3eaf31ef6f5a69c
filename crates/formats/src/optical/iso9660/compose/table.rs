//! Path tables (9.4): every folder with its place and its parent's number, levels in order.

use super::layout::{Layout, Side};

/// Which half of the numbers in both orders a table has.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Order {
    Little,
    Big,
}

impl Order {
    fn word(self, value: u32) -> [u8; 4] {
        if self == Self::Little { value.to_le_bytes() } else { value.to_be_bytes() }
    }

    fn half(self, value: u16) -> [u8; 2] {
        if self == Self::Little { value.to_le_bytes() } else { value.to_be_bytes() }
    }
}

/// The table of one side.
pub(super) fn bytes(layout: &Layout, side: &Side, order: Order) -> Vec<u8> {
    let mut number = vec![0u16; layout.tree.folders.len()];
    for (position, &folder) in side.order.iter().enumerate() {
        number[folder] = position as u16 + 1;
    }
    let mut table = Vec::new();
    for &folder in &side.order {
        let identifier = if folder == 0 { vec![0] } else { layout.folder_identifier(folder, side.names) };
        table.extend([identifier.len() as u8, 0]);
        table.extend(order.word(side.places[folder] as u32));
        table.extend(order.half(number[layout.tree.folders[folder].named.parent]));
        table.extend(&identifier);
        if !identifier.len().is_multiple_of(2) {
            table.push(0);
        }
    }
    table
}
