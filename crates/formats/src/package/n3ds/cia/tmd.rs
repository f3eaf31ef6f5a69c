//! The title metadata: which contents a title has. Big-endian. Layout: docs/formats/n3ds-package.md.

use super::{ID, signature_len};
use crate::num::{be16, be32, be64, le32};
use crate::package::n3ds::sha256;
use decanter_core::{Error, Result};

/// Issuer of title metadata.
const ISSUER: &[u8] = b"Root-CA00000003-CP0000000b";
/// Bytes of the header, of an information record, and of a content record.
const HEADER: usize = 0xc4;
const INFO: usize = 0x24;
const INFOS: usize = 64;
const RECORD: usize = 0x30;
/// Contents that a title may have.
pub const MOST_CONTENTS: usize = 0x10000;
/// Bit of a content's type: it is under the title key.
pub const ENCRYPTED: u16 = 1;
/// Bit of a content's type: the title works without it.
pub const OPTIONAL: u16 = 0x4000;

/// A content record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Record {
    /// Id: name of its file on the card.
    pub id: u32,
    /// Index: 0 the program, 1 the manual, 2 the download-play child.
    pub index: u16,
    /// Bits: [`ENCRYPTED`], [`OPTIONAL`].
    pub kind: u16,
    /// Length in bytes.
    pub len: u64,
    /// SHA-256, without the title key's encryption.
    pub hash: [u8; 32],
}

/// Title metadata.
pub struct Tmd {
    /// Bytes before the content records, signature first.
    pub head: Vec<u8>,
    /// The records.
    pub records: Vec<Record>,
    body: usize,
}

impl Tmd {
    /// Parses title metadata.
    ///
    /// # Errors
    /// [`Error::Malformed`]; offsets are from its beginning.
    pub fn parse(bytes: &[u8]) -> Result<Self> {
        let body = signature_len(bytes)?;
        let records_at = body + HEADER + INFO * INFOS;
        let bad = |what: String, at: usize| Err(Error::malformed(ID, what, at as u64));
        if bytes.len() < records_at {
            return bad(format!("title metadata of {} bytes", bytes.len()), 0);
        }
        let count = usize::from(be16(bytes, body + 0x9e));
        if bytes.len() < records_at + count * RECORD {
            return bad(format!("{count} contents do not fit in title metadata of {} bytes", bytes.len()), body + 0x9e);
        }
        let record = |raw: &[u8]| {
            let mut hash = [0; 32];
            hash.copy_from_slice(&raw[0x10..0x30]);
            Record { id: be32(raw, 0), index: be16(raw, 4), kind: be16(raw, 6), len: be64(raw, 8), hash }
        };
        let records: Vec<Record> = bytes[records_at..].chunks_exact(RECORD).take(count).map(record).collect();
        let mut indices: Vec<u16> = records.iter().map(|r| r.index).collect();
        indices.sort_unstable();
        if let Some(twice) = indices.windows(2).find(|w| w[0] == w[1]) {
            return bad(format!("two contents with index {}", twice[0]), records_at);
        }
        Ok(Self { head: bytes[..records_at].to_vec(), records, body })
    }

    /// Metadata without a signature and without contents.
    pub fn new(title_id: u64, version: u16, save_len: u32) -> Self {
        let body = 0x140;
        let mut head = vec![0; body + HEADER + INFO * INFOS];
        head[..4].copy_from_slice(&0x0001_0004u32.to_be_bytes());
        let fields = &mut head[body..];
        fields[..ISSUER.len()].copy_from_slice(ISSUER);
        fields[0x40] = 1;
        fields[0x4c..0x54].copy_from_slice(&title_id.to_be_bytes());
        fields[0x54..0x58].copy_from_slice(&0x40u32.to_be_bytes());
        fields[0x5a..0x5e].copy_from_slice(&save_len.to_le_bytes());
        fields[0x9c..0x9e].copy_from_slice(&version.to_be_bytes());
        Self { head, records: Vec::new(), body }
    }

    /// The title.
    pub fn title_id(&self) -> u64 {
        be64(&self.head, self.body + 0x4c)
    }

    /// Version of the title: six bits major, six bits minor, four bits micro.
    pub fn version(&self) -> u16 {
        be16(&self.head, self.body + 0x9c)
    }

    /// Bytes of save data.
    pub fn save_len(&self) -> u32 {
        le32(&self.head, self.body + 0x5a)
    }

    /// Sets the title, and takes out the signature, which would not hold.
    pub fn set_title(&mut self, title_id: u64) {
        let at = self.body + 0x4c;
        self.head[at..at + 8].copy_from_slice(&title_id.to_be_bytes());
        self.unsign();
    }

    /// Takes the signature out.
    pub fn unsign(&mut self) {
        self.head[4..self.body].fill(0);
    }

    /// Bytes that it takes with `contents` contents.
    pub fn len_with(&self, contents: usize) -> u64 {
        (self.head.len() + contents * RECORD) as u64
    }

    /// The bytes, with number of contents, records and both hashes made anew.
    pub fn bytes(&self) -> Vec<u8> {
        let mut out = self.head.clone();
        let infos = self.body + HEADER;
        out[self.body + 0x9e..self.body + 0xa0].copy_from_slice(&(self.records.len() as u16).to_be_bytes());
        let records = self.record_bytes();
        out[infos..].fill(0);
        out[infos + 2..infos + 4].copy_from_slice(&(self.records.len() as u16).to_be_bytes());
        out[infos + 4..infos + INFO].copy_from_slice(&sha256(&records));
        let hash = sha256(&out[infos..]);
        out[self.body + 0xa4..self.body + 0xc4].copy_from_slice(&hash);
        out.extend(records);
        out
    }

    fn record_bytes(&self) -> Vec<u8> {
        let mut records = Vec::new();
        for record in &self.records {
            records.extend(record.id.to_be_bytes());
            records.extend(record.index.to_be_bytes());
            records.extend(record.kind.to_be_bytes());
            records.extend(record.len.to_be_bytes());
            records.extend(record.hash);
        }
        records
    }

    /// Whether the hash of the information records holds.
    pub fn infos_hold(&self) -> bool {
        let infos = self.body + HEADER;
        sha256(&self.head[infos..infos + INFO * INFOS]) == self.head[self.body + 0xa4..self.body + 0xc4]
    }

    /// Whether the information records cover all content records, and their hashes hold; else what is wrong.
    pub fn records_hold(&self) -> std::result::Result<(), String> {
        let records = self.record_bytes();
        let mut covered = 0;
        for index in 0..INFOS {
            let at = self.body + HEADER + index * INFO;
            let count = usize::from(be16(&self.head, at + 2));
            if count == 0 {
                continue;
            }
            // The field before gives the first content's index; records stand in that order without gaps.
            let Some(part) = records.get(covered * RECORD..(covered + count) * RECORD) else {
                return Err(format!("information record {index} is of contents that are not there"));
            };
            if sha256(part) != self.head[at + 4..at + INFO] {
                return Err(format!("the hash in information record {index} does not hold"));
            }
            covered += count;
        }
        if covered < self.records.len() {
            return Err(format!(
                "{} of {} contents have no information record",
                self.records.len() - covered,
                self.records.len()
            ));
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Places by hand from the layout: the body begins at 0x140, information records at 0x204, content records at 0xB04.
    #[test]
    fn fields_of_new_metadata() {
        let mut tmd = Tmd::new(0x0004_0000_0f1e_2d00, 0x0410, 0x0002_0000);
        tmd.records.push(Record { id: 7, index: 1, kind: ENCRYPTED, len: 0x4_0000_0200, hash: [0xab; 32] });
        let bytes = tmd.bytes();
        assert_eq!(bytes.len(), 0xb34);
        assert_eq!(bytes[0x140..0x15a], *b"Root-CA00000003-CP0000000b");
        assert_eq!(bytes[0x18c..0x194], [0, 4, 0, 0, 0x0f, 0x1e, 0x2d, 0]);
        assert_eq!(bytes[0x194..0x198], [0, 0, 0, 0x40]);
        assert_eq!(bytes[0x19a..0x19e], [0, 0, 2, 0], "little-endian");
        assert_eq!(bytes[0x1dc..0x1e0], [4, 0x10, 0, 1]);
        assert_eq!(bytes[0x204..0x208], [0, 0, 0, 1]);
        assert_eq!(bytes[0xb04..0xb14], [0, 0, 0, 7, 0, 1, 0, 1, 0, 0, 0, 4, 0, 0, 2, 0]);
        assert_eq!(bytes[0x208..0x228], sha256(&bytes[0xb04..0xb34]));
        assert_eq!(bytes[0x1e4..0x204], sha256(&bytes[0x204..0xb04]));
        let again = Tmd::parse(&bytes).unwrap();
        assert!(again.infos_hold() && again.records_hold().is_ok());
        assert_eq!((again.save_len(), again.records), (0x0002_0000, tmd.records));
    }

    #[test]
    fn what_does_not_hold_is_told() {
        let mut tmd = Tmd::new(1, 0, 0);
        tmd.records.push(Record { id: 0, index: 0, kind: 0, len: 16, hash: [1; 32] });
        let mut bytes = tmd.bytes();
        bytes[0xb20] ^= 1;
        let bad = Tmd::parse(&bytes).unwrap();
        assert!(bad.infos_hold());
        assert_eq!(bad.records_hold(), Err("the hash in information record 0 does not hold".into()));
        bytes[0x1df] = 2;
        assert!(matches!(Tmd::parse(&bytes), Err(Error::Malformed { offset: 0x1de, .. })));
    }
}
