//! The museum's own keys for this family, under our names and in a list of the widespread kind.

use crate::content::secret;
use decanter_core::digest::hex;
use decanter_core::keyring::Key;

/// Revisions that the museum has keys of.
const REVISIONS: u8 = 6;

/// The key of headers.
pub(crate) fn header() -> Key {
    Key::new([secret("hybrid header data"), secret("hybrid header tweak")].concat())
}

/// The key that key areas are under.
pub(crate) fn area(revision: u8) -> [u8; 16] {
    secret(&format!("hybrid key area {revision}"))
}

/// The key that title keys are under.
pub(crate) fn title_kek(revision: u8) -> [u8; 16] {
    secret(&format!("hybrid title kek {revision}"))
}

/// The key of a gamecard's header.
pub(crate) fn card() -> [u8; 16] {
    secret("hybrid card header")
}

/// All of them as a list.
pub fn list() -> String {
    let mut text = String::from("# Saltmarsh Pier Arcade Museum, made-up secrets\n");
    text.push_str(&format!("nx.header = {}\nnx.card.header = {}\n", hex(header().bytes()), hex(&card())));
    for revision in 0..REVISIONS {
        text.push_str(&format!("nx.area.application.{revision:02x} = {}\n", hex(&area(revision))));
        text.push_str(&format!("nx.titlekek.{revision:02x} = {}\n", hex(&title_kek(revision))));
    }
    text
}
