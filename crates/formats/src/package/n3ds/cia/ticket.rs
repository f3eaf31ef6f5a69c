//! The ticket: which title, which key. Big-endian. Layout: docs/formats/n3ds-package.md.

use super::{ID, signature_len};
use crate::num::{be16, be64};
use decanter_core::error::{KeyTrouble, KeyWay};
use decanter_core::keyring::{Key, Keyring};
use decanter_core::source::Bytes;
use decanter_core::source::Source;
use decanter_core::view::ChainedCbc;
use decanter_core::{Error, Result};
use std::sync::Arc;

/// Bytes after the signature.
const BODY: usize = 0x210;
/// Issuer of tickets.
const ISSUER: &[u8] = b"Root-CA00000003-XS0000000c";
/// The fields that say which contents a ticket covers: a header of 20 bytes, one section of kind 3 with one record.
const COVERS: [(usize, u32); 10] = [
    (0x00, 0x0001_0014),
    (0x04, 0xac),
    (0x08, 0x14),
    (0x0c, 0x0001_0014),
    (0x10, 0),
    (0x14, 0x28),
    (0x18, 1),
    (0x1c, 0x84),
    (0x20, 0x84),
    (0x24, 0x0003_0000),
];

/// A ticket.
pub struct Ticket {
    /// The bytes, signature first.
    pub bytes: Vec<u8>,
    body: usize,
}

impl Ticket {
    /// Parses a ticket.
    ///
    /// # Errors
    /// [`Error::Malformed`] for an unknown signature and for too few bytes; offsets are from its beginning.
    pub fn parse(bytes: Vec<u8>) -> Result<Self> {
        let body = signature_len(&bytes)?;
        if bytes.len() < body + BODY {
            return Err(Error::malformed(ID, format!("a ticket of {} bytes", bytes.len()), 0));
        }
        Ok(Self { bytes, body })
    }

    /// One for a title whose contents are not encrypted: no signature, a title key of zeros, all contents covered.
    pub fn new(title_id: u64, version: u16) -> Self {
        let body = 0x140;
        let mut bytes = vec![0; body + BODY];
        bytes[..4].copy_from_slice(&0x0001_0004u32.to_be_bytes());
        let fields = &mut bytes[body..];
        fields[..ISSUER.len()].copy_from_slice(ISSUER);
        fields[0x7c] = 1;
        fields[0x9c..0xa4].copy_from_slice(&title_id.to_be_bytes());
        fields[0xa6..0xa8].copy_from_slice(&version.to_be_bytes());
        fields[0xe1] = 1;
        for (at, value) in COVERS {
            fields[0x164 + at..0x168 + at].copy_from_slice(&value.to_be_bytes());
        }
        fields[0x164 + 0x2c..0x164 + 0xac].fill(0xff);
        Self { bytes, body }
    }

    fn field(&self, at: usize) -> &[u8] {
        &self.bytes[self.body + at..]
    }

    /// The title it is for.
    pub fn title_id(&self) -> u64 {
        be64(self.field(0x9c), 0)
    }

    /// Version of the title.
    pub fn version(&self) -> u16 {
        be16(self.field(0xa6), 0)
    }

    /// Number of the common key.
    pub fn common_key(&self) -> u8 {
        self.field(0xb1)[0]
    }

    /// The title key, decrypted under the common key, and where that came from.
    ///
    /// # Errors
    /// The trouble with the common key.
    pub fn title_key(&self, keys: &Keyring) -> std::result::Result<(Key, String), KeyTrouble> {
        let id = super::title::shown(self.title_id());
        let (common, origin) = super::keys::common(keys, self.common_key(), &format!("the title key of {id}"))?;
        let mut iv = [0; 16];
        iv[..8].copy_from_slice(&self.title_id().to_be_bytes());
        let sealed = Arc::new(Bytes(self.field(0x7f)[..16].to_vec()));
        let mut key = vec![0; 16];
        let read = ChainedCbc::new(sealed, &common, iv).and_then(|view| view.read_at(0, &mut key));
        match read {
            Ok(()) => Ok((Key::new(key), origin)),
            Err(_) => Err(KeyTrouble {
                way: KeyWay::ByName,
                need: format!("the common key of {id}"),
                wrong: vec![origin],
                looked: keys.looked().to_vec(),
            }),
        }
    }

    /// The same ticket for another title or version, without a signature that would not hold.
    pub fn set_title(&mut self, title_id: u64) {
        let at = self.body + 0x9c;
        self.bytes[at..at + 8].copy_from_slice(&title_id.to_be_bytes());
        self.unsign();
    }

    /// Takes the title key and the signature out: contents that are not encrypted need neither.
    pub fn unsign(&mut self) {
        self.bytes[4..self.body].fill(0);
        let at = self.body + 0x7f;
        self.bytes[at..at + 16].fill(0);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Places by hand from the layout: the body begins at 0x140.
    #[test]
    fn fields_of_a_new_ticket() {
        let ticket = Ticket::new(0x0004_0000_0f1e_2d00, 0x0410);
        assert_eq!(ticket.bytes.len(), 0x350);
        assert_eq!(ticket.bytes[..4], [0, 1, 0, 4]);
        assert_eq!(ticket.bytes[0x140..0x15a], *b"Root-CA00000003-XS0000000c");
        assert_eq!(ticket.bytes[0x1dc..0x1e4], [0, 4, 0, 0, 0x0f, 0x1e, 0x2d, 0]);
        assert_eq!(ticket.bytes[0x1e6..0x1e8], [4, 0x10]);
        assert_eq!(ticket.bytes[0x2a4..0x2b4], [0, 1, 0, 0x14, 0, 0, 0, 0xac, 0, 0, 0, 0x14, 0, 1, 0, 0x14]);
        assert_eq!(ticket.bytes[0x2c0..0x2d2], [0, 0, 0, 0x84, 0, 0, 0, 0x84, 0, 3, 0, 0, 0, 0, 0, 0, 0xff, 0xff]);
        assert!(ticket.bytes[0x2d0..].iter().all(|&b| b == 0xff));
    }
}
