//! The primary descriptor (8.4) and the one of the Joliet tree (8.5).

use super::Volume;
use super::layout::{Layout, Side};
use super::names::{Names, d_characters, ucs2};
use super::record::record;
use crate::optical::both::{Both16, Both32};
use crate::optical::iso9660::raw::{CD001, Descriptor, FLAG_FOLDER, PRIMARY, RECORD_LEN, SUPPLEMENTARY, TERMINATOR};
use decanter_core::SECTOR;
use zerocopy::{FromZeros, IntoBytes};

/// Says that a supplementary descriptor's names are UCS-2 of level 3.
const JOLIET: &[u8; 3] = b"%/E";

/// The descriptor of one side of a volume of `total` sectors.
pub(super) fn bytes(layout: &Layout, side: &Side, volume: &Volume, total: u32) -> Vec<u8> {
    let mut d = Box::new(Descriptor::new_zeroed());
    d.kind = if side.names == Names::Plain { PRIMARY } else { SUPPLEMENTARY };
    d.identifier = CD001;
    d.version = 1;
    let fill = |field: &mut [u8], text: &str| put_text(field, text, side.names);
    fill(&mut d.system, &volume.system);
    fill(&mut d.volume, &volume.label);
    for field in [&mut d.volume_set, &mut d.publisher, &mut d.preparer, &mut d.application] {
        fill(field, "");
    }
    fill(&mut d.files, "");
    if side.names == Names::Joliet {
        d.escapes[..3].copy_from_slice(JOLIET);
    }
    d.space_size = Both32::new(total);
    d.set_size = Both16::new(1);
    d.sequence = Both16::new(1);
    d.block_size = Both16::new(SECTOR as u16);
    d.path_table_size = Both32::new(side.table_len as u32);
    d.path_table_le = (side.tables[0] as u32).into();
    d.path_table_be = (side.tables[1] as u32).into();
    let own = record(&[0], side.places[0], side.lens[0], layout.tree.newest, FLAG_FOLDER);
    d.root.as_mut_bytes().copy_from_slice(&own[..RECORD_LEN]);
    let date = date17(layout.tree.newest);
    d.dates = [date, date, date17(None), date17(None)];
    d.structure_version = 1;
    d.as_bytes().to_vec()
}

/// What ends the list of descriptors (8.3); the rest of its sector is zero.
pub(super) fn terminator() -> Vec<u8> {
    [&[TERMINATOR][..], &CD001, &[1]].concat()
}

/// Fills a field with text and spaces, cut to what fits.
fn put_text(field: &mut [u8], text: &str, names: Names) {
    let bytes = match names {
        Names::Plain => {
            field.fill(b' ');
            d_characters(text, " ").into_bytes()
        }
        Names::Joliet => {
            // A field of odd length ends with a byte that belongs to no character.
            field.as_chunks_mut::<2>().0.fill([0, b' ']);
            ucs2(text)
        }
    };
    let unit = if names == Names::Plain { 1 } else { 2 };
    let len = bytes.len().min(field.len() / unit * unit);
    field[..len].copy_from_slice(&bytes[..len]);
}

/// A date of a descriptor (8.4.26.1); zero digits for "not given".
fn date17(seconds: Option<i64>) -> [u8; 17] {
    let digits = match seconds.map(crate::time::date) {
        Some(((year, month, day), (h, m, s))) => {
            format!("{:04}{month:02}{day:02}{h:02}{m:02}{s:02}00", year.clamp(1, 9999))
        }
        None => "0".repeat(16),
    };
    let mut date = [0; 17];
    date[..16].copy_from_slice(digits.as_bytes());
    date
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fields_have_these_bytes() {
        let mut field = [0xaa; 5];
        put_text(&mut field, "Pier 9 open", Names::Plain);
        assert_eq!(&field, b"PIER ");
        let mut field = [0xaa; 5];
        put_text(&mut field, "\u{e9}", Names::Joliet);
        assert_eq!(field, [0, 0xe9, 0, b' ', 0xaa], "the odd byte stays what it was: zero in a new descriptor");
        assert_eq!(&date17(Some(crate::time::seconds((1998, 3, 14), (9, 26, 53)))), b"1998031409265300\0");
        assert_eq!(&date17(None), b"0000000000000000\0");
        assert_eq!(terminator(), b"\xffCD001\x01");
    }
}
