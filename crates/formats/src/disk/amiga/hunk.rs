//! Executables of the Amiga: a chain of hunks; and what shows which of several is the one to start.

use crate::num::be32;

/// What an executable begins with.
const HEADER: u32 = 0x0000_03f3;
/// Most hunks of a program.
const MOST_HUNKS: u32 = 10_000;

/// Whether bytes begin as an executable does.
pub fn is_executable(head: &[u8]) -> bool {
    head.len() >= 20 && be32(head, 0) == HEADER && be32(head, 4) == 0 && (1..MOST_HUNKS).contains(&be32(head, 8))
}

/// What an icon (`.info`) says of its file: its kind (3 a tool, 4 a project), and the default tool of a project.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Icon {
    /// 1 disk, 2 drawer, 3 tool, 4 project, 5 garbage, 8 kick.
    pub kind: u8,
    /// The program that opens it.
    pub tool: Option<String>,
}

/// Reads an icon; `None` if it is none.
pub fn icon(bytes: &[u8]) -> Option<Icon> {
    if bytes.len() < 78 || bytes[..4] != [0xe3, 0x10, 0, 1] {
        return None;
    }
    let kind = bytes[48];
    // After the structure: the drawer's window, the images, then the tool.
    let mut at = 78 + if be32(bytes, 66) != 0 { 56 } else { 0 };
    for place in [22, 26] {
        if be32(bytes, place) == 0 {
            continue;
        }
        let image = bytes.get(at..at + 20)?;
        let [width, height, depth] = [4, 6, 8].map(|o| usize::from(u16::from_be_bytes([image[o], image[o + 1]])));
        at += 20 + if be32(image, 10) != 0 { width.div_ceil(16) * 2 * height * depth } else { 0 };
    }
    let tool = if be32(bytes, 50) != 0 {
        let len = be32(bytes.get(at..at + 4)?, 0) as usize;
        let text = bytes.get(at + 4..at.checked_add(4)?.checked_add(len)?)?;
        Some(text.iter().take_while(|b| **b != 0).map(|b| char::from(*b)).collect())
    } else {
        None
    };
    Some(Icon { kind, tool })
}

/// The system version that a program seems to ask for when it opens a library, if a number can be told.
pub fn system_version(bytes: &[u8]) -> Option<u32> {
    // moveq #n,d0 before jsr OpenLibrary(a6): the numbers of releases from 1.2 on.
    let opens = memchr::memmem::find_iter(bytes, &[0x4e, 0xae, 0xfd, 0xd8]);
    opens
        .filter_map(|at| {
            let before = &bytes[at.saturating_sub(16)..at];
            before.windows(2).rev().find(|w| w[0] == 0x70 && (33..=47).contains(&w[1])).map(|w| u32::from(w[1]))
        })
        .max()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn executables_and_what_they_ask_for() {
        let mut program = [0, 0, 3, 0xf3, 0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0].to_vec();
        assert!(is_executable(&program));
        assert_eq!(system_version(&program), None);
        program.extend([0x70, 37, 0x4e, 0xae, 0xfd, 0xd8]);
        assert_eq!(system_version(&program), Some(37));
    }

    proptest! {
        #[test]
        fn no_bytes_can_panic(bytes in proptest::collection::vec(any::<u8>(), 0..300)) {
            let _ = (icon(&bytes), system_version(&bytes), is_executable(&bytes));
            let with_magic = [&[0xe3, 0x10, 0, 1][..], &bytes].concat();
            let _ = icon(&with_magic);
        }
    }
}
