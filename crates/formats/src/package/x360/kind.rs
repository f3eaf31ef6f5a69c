//! Content types: what a package is, and among its title which part.

use decanter_core::opened::TitlePart;

/// Saved games.
pub const SAVED_GAME: u32 = 1;
/// Games on demand: discs.
pub const GAME_ON_DEMAND: u32 = 0x7000;
/// Discs of the first console.
pub const FIRST_CONSOLE: u32 = 0x5000;

const KINDS: [(u32, &str, TitlePart); 30] = [
    (SAVED_GAME, "saved game", TitlePart::Other),
    (2, "add-on", TitlePart::AddOn),
    (3, "publisher's content", TitlePart::Other),
    (0x1000, "console title", TitlePart::Program),
    (0x2000, "pause buffer", TitlePart::Other),
    (0x4000, "installed game", TitlePart::Program),
    (FIRST_CONSOLE, "game of the first console", TitlePart::Program),
    (GAME_ON_DEMAND, "game on demand", TitlePart::Program),
    (0x9000, "avatar item", TitlePart::Other),
    (0x1_0000, "profile", TitlePart::Other),
    (0x2_0000, "gamer picture", TitlePart::Other),
    (0x3_0000, "theme", TitlePart::Other),
    (0x4_0000, "cache", TitlePart::Other),
    (0x5_0000, "storage download", TitlePart::Other),
    (0x6_0000, "saved game of the first console", TitlePart::Other),
    (0x7_0000, "download of the first console", TitlePart::Program),
    (0x8_0000, "demo", TitlePart::Trial),
    (0x9_0000, "video", TitlePart::Other),
    (0xa_0000, "title", TitlePart::Program),
    (0xb_0000, "title update", TitlePart::Update),
    (0xc_0000, "trailer", TitlePart::Other),
    (0xd_0000, "arcade title", TitlePart::Program),
    (0xe_0000, "community title", TitlePart::Program),
    (0xf_0000, "licence store", TitlePart::Other),
    (0x10_0000, "film", TitlePart::Other),
    (0x20_0000, "series", TitlePart::Other),
    (0x30_0000, "music video", TitlePart::Other),
    (0x40_0000, "game video", TitlePart::Other),
    (0x50_0000, "podcast", TitlePart::Other),
    (0x60_0000, "short video", TitlePart::Other),
];

/// What a content type is called, and which part of a title it is.
pub fn of(content_type: u32) -> (String, TitlePart) {
    match KINDS.iter().find(|(number, ..)| *number == content_type) {
        Some((_, name, part)) => ((*name).to_owned(), *part),
        None if content_type == 0x200_0000 => ("community game".into(), TitlePart::Program),
        None => (format!("content of type {content_type:#x}"), TitlePart::Other),
    }
}
