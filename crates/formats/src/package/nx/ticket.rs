//! A ticket: which rights it grants, and the title key for them. Layout: docs/formats/nca.md.

use super::raw::TicketBody;
use crate::num::le32;
use crate::raw::split;
use decanter_core::keyring::Key;
use decanter_core::{Error, Result};

const ID: &str = "tik";
/// The longest ticket, and the longest chain of certificates, that are read.
pub const MOST: u64 = 1 << 20;

/// A ticket.
#[derive(Debug, Clone)]
pub struct Ticket {
    /// The rights that it grants.
    pub rights_id: [u8; 16],
    /// Whether its title key is for one console only: that cannot be opened here.
    pub is_personal: bool,
    /// The title key, under its key-encryption key.
    key: Key,
    /// The generation that it names.
    pub generation: u8,
}

/// Bytes of a signature of this type with its padding: what it signs follows.
fn signature_len(kind: u32) -> Option<usize> {
    Some(match kind {
        0x1_0000 | 0x1_0003 => 4 + 0x200 + 0x3c,
        0x1_0001 | 0x1_0004 => 4 + 0x100 + 0x3c,
        0x1_0002 | 0x1_0005 => 4 + 0x3c + 0x40,
        0x1_0006 => 4 + 0x14 + 0x28,
        _ => return None,
    })
}

impl Ticket {
    /// Reads a ticket.
    ///
    /// # Errors
    /// [`Error::Malformed`] for one that is cut, or signed in an unknown way.
    pub fn parse(bytes: &[u8]) -> Result<Self> {
        if bytes.len() < 4 {
            return Err(Error::malformed(ID, "a ticket that is cut short", 0));
        }
        let kind = le32(bytes, 0);
        let at = signature_len(kind)
            .ok_or_else(|| Error::malformed(ID, format!("a signature of unknown type {kind:#x}"), 0))?;
        let (body, _) = split::<TicketBody>(ID, "the ticket", bytes.get(at..).unwrap_or_default(), at as u64)?;
        let mut key = [0; 16];
        key.copy_from_slice(&body.title_key[..16]);
        let key = Key::new(key.to_vec());
        Ok(Self { rights_id: body.rights_id, is_personal: body.key_kind != 0, key, generation: body.generation })
    }

    /// The title key, under its key-encryption key; `None` if it is for one console only.
    pub fn title_key(&self) -> Option<&Key> {
        (!self.is_personal).then_some(&self.key)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_ticket_by_hand() {
        let mut bytes = vec![0; 0x2c0];
        bytes[..4].copy_from_slice(&[4, 0, 1, 0]);
        bytes[0x180..0x190].copy_from_slice(&[9; 16]);
        bytes[0x285] = 5;
        bytes[0x2a0..0x2b0].copy_from_slice(&[3; 16]);
        let own = Ticket::parse(&bytes).unwrap();
        assert_eq!((own.rights_id, own.generation, own.title_key().unwrap().bytes()), ([3; 16], 5, &[9; 16][..]));
        bytes[0x281] = 1;
        assert!(Ticket::parse(&bytes).unwrap().title_key().is_none(), "it is for one console");
        assert!(Ticket::parse(&bytes[..0x2bf]).is_err());
        bytes[0] = 9;
        assert!(Ticket::parse(&bytes).unwrap_err().to_string().contains("unknown type 0x10009"));
    }

    proptest! {
        #[test]
        fn any_bytes_are_refused_or_read(bytes in proptest::collection::vec(any::<u8>(), 0..0x400)) {
            let _ = Ticket::parse(&bytes);
            let mut signed = bytes;
            if signed.len() >= 4 {
                signed[..4].copy_from_slice(&[4, 0, 1, 0]);
            }
            let _ = Ticket::parse(&signed);
        }
    }
}
