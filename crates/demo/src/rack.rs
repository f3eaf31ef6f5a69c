//! A rack of dumps that nobody has looked at for years: known and unknown ones, one that is damaged, doubles, and gaps; and the
//! list of what it should be.

use crate::content;
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::{Error, Result, os};
use std::path::Path;
use std::time::{Duration, SystemTime};

/// When all of it was put there: 2019-04-06 10:00:00 UTC.
const PUT_THERE: u64 = 1_554_544_800;
/// The dump that the year takes a byte from.
pub(crate) const ROTTEN: &str = "b/Gullwing (Saltmarsh).rom";

/// A name, and the bytes under it.
type Dump = (&'static str, Vec<u8>);

/// A dump of made-up bytes.
fn dump(number: usize) -> Vec<u8> {
    let mut bytes = format!("Saltmarsh dump {number}\n").into_bytes();
    while bytes.len() < 48 << 10 {
        bytes.extend(content::route(number + bytes.len() % 7));
    }
    bytes.truncate(48 << 10);
    bytes
}

/// The games that the list has, each with the names and dumps of its files.
fn games() -> Vec<(&'static str, Vec<Dump>)> {
    vec![
        ("Fogbell", vec![("Fogbell (Saltmarsh).rom", dump(1))]),
        ("Tide Table", vec![("Tide Table (1).rom", dump(2)), ("Tide Table (2).rom", dump(3))]),
        ("Moth Parade", vec![("Moth Parade (Saltmarsh).rom", dump(4))]),
        ("Kelp Dash", vec![("Kelp Dash (Saltmarsh).rom", dump(5))]),
        ("Gullwing", vec![("Gullwing (Saltmarsh).rom", dump(6))]),
        ("Brine Racer", vec![("Brine Racer (Saltmarsh).rom", dump(7))]),
    ]
}

/// The files of the rack, but for the archive in it.
pub(crate) fn files() -> Vec<Dump> {
    let mut worn = dump(4);
    worn[20_000] ^= 0x40;
    vec![
        ("a/Fogbell (Saltmarsh).rom", dump(1)),
        ("a/tt1.rom", dump(2)),
        ("a/Moth Parade (Saltmarsh).rom", worn),
        ("b/Fogbell, copy.rom", dump(1)),
        ("b/prototype.rom", dump(8)),
        (ROTTEN, dump(6)),
    ]
}

/// What is in the archive.
pub(crate) fn packed() -> Vec<Dump> {
    vec![("Kelp Dash (Saltmarsh).rom", dump(5))]
}

/// The list of what should be there.
pub(crate) fn list() -> String {
    let mut text = String::from(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<datafile>\n\t<header>\n\t\t<name>Saltmarsh Pier rack</name>\n\
         \t\t<version>2026-11-28</version>\n\t</header>\n",
    );
    for (game, files) in games() {
        text.push_str(&format!("\t<game name=\"{game}\">\n"));
        for (name, bytes) in files {
            let [crc, sha1] = [Algorithm::Crc32, Algorithm::Sha1].map(|a| of_bytes(a, &bytes).hex());
            let len = bytes.len();
            text.push_str(&format!("\t\t<rom name=\"{name}\" size=\"{len}\" crc=\"{crc}\" sha1=\"{sha1}\"/>\n"));
        }
        text.push_str("\t</game>\n");
    }
    text.push_str(
        "\t<game name=\"Lost Lane\">\n\t\t<rom name=\"Lost Lane.rom\" status=\"nodump\"/>\n\t</game>\n</datafile>\n",
    );
    text
}

/// Gives a file of the rack the time when it was put there.
pub(crate) fn date(path: &Path) -> Result<()> {
    let failed = |e| Error::io("set time of", path, e);
    let time = SystemTime::UNIX_EPOCH + Duration::from_secs(PUT_THERE);
    std::fs::File::options().append(true).open(path).and_then(|file| file.set_modified(time)).map_err(failed)
}

/// Lets a year pass in a rack: one bit of one dump turns, and its time does not.
///
/// # Errors
/// When the dump is not there, or cannot be written.
pub fn let_a_year_pass(rack: &Path) -> Result<()> {
    let path = rack.join(ROTTEN);
    let failed = |e| Error::io("write", &path, e);
    let file = std::fs::File::options().read(true).write(true).open(&path).map_err(failed)?;
    let mut byte = [0];
    os::read_exact_at(&file, &mut byte, 31_000).map_err(failed)?;
    os::write_all_at(&file, &[byte[0] ^ 0x04], 31_000).map_err(failed)?;
    drop(file);
    date(&path)
}
