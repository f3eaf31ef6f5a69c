//! The header of versions 3 to 5, and the list of metadata. All numbers are big-endian.

use super::ID;
use crate::raw::read_at;
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::source::{Source, read_vec};
use decanter_core::{Error, Result};

/// What every image begins with.
pub(super) const MAGIC: &[u8; 8] = b"MComprHD";
/// Bytes of the header of version 5.
pub(super) const LEN_5: u64 = size_of::<raw::Version5>() as u64;
/// Largest hunk that is read.
pub(super) const MOST_HUNK: u32 = 4 << 20;
/// Metadata entries, and bytes of one of them.
const MOST_ENTRIES: usize = 1000;
const MOST_ENTRY: u64 = 1 << 20;
/// Flag of metadata that the overall SHA-1 covers.
pub(super) const COVERED: u8 = 1;

mod raw {
    use crate::raw::layouts;
    use zerocopy::byteorder::{BE, U32, U64};

    layouts! {
        /// What all versions begin with.
        Start: 16 {
            magic: [u8; 8],
            len: U32<BE>,
            version: U32<BE>,
        }

        /// What versions 3 and 4 go on with.
        Old: 44 {
            start: Start,
            flags: U32<BE>,
            codec: U32<BE>,
            hunks: U32<BE>,
            logical_len: U64<BE>,
            meta: U64<BE>,
        }

        Version3: 120 {
            old: Old,
            md5: [u8; 16],
            parent_md5: [u8; 16],
            hunk_len: U32<BE>,
            sha1: [u8; 20],
            parent: [u8; 20],
        }

        Version4: 108 {
            old: Old,
            hunk_len: U32<BE>,
            sha1: [u8; 20],
            parent: [u8; 20],
            raw_sha1: [u8; 20],
        }

        Version5: 124 {
            start: Start,
            codecs: [[u8; 4]; 4],
            logical_len: U64<BE>,
            map: U64<BE>,
            meta: U64<BE>,
            hunk_len: U32<BE>,
            unit_len: U32<BE>,
            raw_sha1: [u8; 20],
            sha1: [u8; 20],
            parent: [u8; 20],
        }

        /// What stands before each entry of metadata.
        Metadata: 16 {
            tag: [u8; 4],
            flags_and_len: [u8; 4],
            next: U64<BE>,
        }
    }
}

/// How a hunk is packed, by its four letters in version 5.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Tag(pub [u8; 4]);

impl Tag {
    /// No codec.
    pub const NONE: Self = Self([0; 4]);
}

impl std::fmt::Display for Tag {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}", self.0.escape_ascii())
    }
}

/// The header.
#[derive(Debug, Clone)]
pub(super) struct Header {
    pub(super) version: u32,
    /// Up to four; [`Tag::NONE`] for none.
    pub(super) codecs: [Tag; 4],
    /// Bytes of the image inside.
    pub(super) logical_len: u64,
    pub(super) map_offset: u64,
    pub(super) meta_offset: u64,
    pub(super) hunk_len: u32,
    /// Bytes of a unit: what references into a parent count in.
    pub(super) unit_len: u32,
    /// SHA-1 of the image inside.
    pub(super) raw_sha1: [u8; 20],
    /// SHA-1 of that and of the metadata; of version 3 that of the image.
    pub(super) sha1: [u8; 20],
    /// The overall SHA-1 of the image that this is a difference to.
    pub(super) parent: Option<[u8; 20]>,
}

impl Header {
    /// Reads and checks a header.
    ///
    /// # Errors
    /// [`Error::Malformed`] with the field, [`Error::Unsupported`] for other versions and codecs.
    pub(super) fn read(source: &dyn Source) -> Result<Self> {
        if source.len() < size_of::<raw::Start>() as u64 {
            return Err(Error::malformed(ID, "too short for a header: the file ends", source.len()));
        }
        let start: raw::Start = read_at(source, 0)?;
        let (len, version) = (start.len.get(), start.version.get());
        let wanted = match version {
            3 => size_of::<raw::Version3>() as u64,
            4 => size_of::<raw::Version4>() as u64,
            5 => LEN_5,
            other => return Err(Error::unsupported(ID, format!("version {other}"))),
        };
        if u64::from(len) != wanted {
            return Err(Error::malformed(
                ID,
                format!("a header of {len} bytes, where version {version} has {wanted}"),
                8,
            ));
        }
        if source.len() < wanted {
            return Err(Error::malformed(ID, format!("the header ends at {wanted:#x}: the file ends"), source.len()));
        }
        let header = match version {
            3 => {
                let own: raw::Version3 = read_at(source, 0)?;
                // The digest of the image is also that of all of it.
                Self::old(version, &own.old, own.hunk_len.get(), [own.sha1, own.sha1, own.parent])?
            }
            4 => {
                let own: raw::Version4 = read_at(source, 0)?;
                Self::old(version, &own.old, own.hunk_len.get(), [own.raw_sha1, own.sha1, own.parent])?
            }
            _ => Self::of(&read_at(source, 0)?),
        };
        header.check(if version == 5 { 56 } else { 44 })?;
        Ok(header)
    }

    /// That of version 5.
    fn of(own: &raw::Version5) -> Self {
        Self {
            version: 5,
            codecs: own.codecs.map(Tag),
            logical_len: own.logical_len.get(),
            map_offset: own.map.get(),
            meta_offset: own.meta.get(),
            hunk_len: own.hunk_len.get(),
            unit_len: own.unit_len.get(),
            raw_sha1: own.raw_sha1,
            sha1: own.sha1,
            parent: Some(own.parent).filter(|digest| *digest != [0; 20]),
        }
    }

    /// That of versions 3 and 4, whose map follows it; the digests are of the image, of all, and of the parent.
    fn old(version: u32, own: &raw::Old, hunk_len: u32, [raw_sha1, sha1, parent]: [[u8; 20]; 3]) -> Result<Self> {
        let codec = match own.codec.get() {
            0 => Tag::NONE,
            1 | 2 => Tag(*b"zlib"),
            3 => Tag(*b"avhu"),
            other => return Err(Error::unsupported(ID, format!("codec {other} of version {version}"))),
        };
        Ok(Self {
            version,
            codecs: [codec, Tag::NONE, Tag::NONE, Tag::NONE],
            logical_len: own.logical_len.get(),
            map_offset: own.start.len.get().into(),
            meta_offset: own.meta.get(),
            hunk_len,
            unit_len: 0,
            raw_sha1,
            sha1,
            parent: (own.flags.get() & 1 != 0).then_some(parent),
        })
    }

    fn check(&self, hunk_at: u64) -> Result<()> {
        let hunk = self.hunk_len;
        if hunk == 0 || hunk > MOST_HUNK {
            return Err(Error::malformed(ID, format!("hunks of {hunk} bytes"), hunk_at));
        }
        if self.version == 5 && (self.unit_len == 0 || !hunk.is_multiple_of(self.unit_len)) {
            let text = format!("hunks of {hunk} bytes, which are no whole units of {}", self.unit_len);
            return Err(Error::malformed(ID, text, 60));
        }
        if self.hunks() > 1 << 28 {
            return Err(Error::malformed(ID, format!("{} bytes in {} hunks", self.logical_len, self.hunks()), 32));
        }
        Ok(())
    }

    /// Number of hunks.
    pub(super) fn hunks(&self) -> u64 {
        self.logical_len.div_ceil(self.hunk_len.into())
    }

    /// Whether it says that hunks are packed.
    pub(super) fn is_packed(&self) -> bool {
        self.codecs[0] != Tag::NONE
    }
}

/// An entry of metadata.
#[derive(Debug, Clone)]
pub(super) struct Entry {
    pub(super) tag: Tag,
    pub(super) flags: u8,
    pub(super) data: Vec<u8>,
}

impl Entry {
    /// A text with the zero byte that ends it, covered by the overall SHA-1.
    pub(super) fn text(tag: &[u8; 4], text: &str) -> Self {
        Self { tag: Tag(*tag), flags: COVERED, data: [text.as_bytes(), &[0]].concat() }
    }

    /// The data as a text.
    pub(super) fn as_text(&self) -> String {
        String::from_utf8_lossy(&self.data).trim_end_matches('\0').to_owned()
    }
}

/// The metadata, which form a chain.
///
/// # Errors
/// [`Error::Malformed`] for entries that reach past the end, and chains without one.
pub(super) fn metadata(source: &dyn Source, first: u64) -> Result<Vec<Entry>> {
    let (mut entries, mut at) = (Vec::new(), first);
    while at != 0 {
        if at.checked_add(16).is_none_or(|end| end > source.len()) {
            return Err(Error::malformed(ID, format!("metadata entry {} lies past the end", entries.len()), at));
        }
        if entries.len() >= MOST_ENTRIES {
            return Err(Error::malformed(ID, format!("more than {MOST_ENTRIES} metadata entries: a loop"), at));
        }
        let head: raw::Metadata = read_at(source, at)?;
        let [flags, len @ ..] = head.flags_and_len;
        let len = u64::from(u32::from_be_bytes([0, len[0], len[1], len[2]]));
        let data = read_vec(source, at + 16, len, "a metadata entry", MOST_ENTRY)?;
        entries.push(Entry { tag: Tag(head.tag), flags, data });
        at = head.next.get();
    }
    Ok(entries)
}

/// The metadata as they follow each other from byte `at` on.
pub(super) fn write_metadata(entries: &[Entry], mut at: u64) -> Vec<u8> {
    let mut bytes = Vec::new();
    for (index, entry) in entries.iter().enumerate() {
        at += 16 + entry.data.len() as u64;
        bytes.extend(entry.tag.0);
        bytes.extend((u32::from(entry.flags) << 24 | entry.data.len() as u32).to_be_bytes());
        bytes.extend(if index + 1 < entries.len() { at } else { 0 }.to_be_bytes());
        bytes.extend(&entry.data);
    }
    bytes
}

/// The overall SHA-1: of the image's, and of the digests of the metadata that it covers, sorted with their tags.
pub(super) fn overall(raw_sha1: &[u8], entries: &[Entry]) -> Vec<u8> {
    let covered = entries.iter().filter(|e| e.flags & COVERED != 0);
    let mut hashes: Vec<Vec<u8>> =
        covered.map(|e| [&e.tag.0[..], &of_bytes(Algorithm::Sha1, &e.data).bytes].concat()).collect();
    hashes.sort();
    of_bytes(Algorithm::Sha1, &[raw_sha1, &hashes.concat()].concat()).bytes
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::source::Bytes;

    /// A header of version 5, field by field along docs/formats/chd.md.
    fn version_5() -> Vec<u8> {
        let mut bytes = b"MComprHD\0\0\0\x7c\0\0\0\x05zlib".to_vec();
        bytes.extend([0; 12]);
        for word in [0x10_0000u64, 0x200, 0x300] {
            bytes.extend(word.to_be_bytes());
        }
        bytes.extend([4096u32.to_be_bytes(), 512u32.to_be_bytes()].concat());
        bytes.extend([[1; 20], [2; 20], [0; 20]].concat());
        assert_eq!(bytes.len(), 124);
        bytes
    }

    /// Version 3 (120 bytes) or 4 (108): flags, codec, hunks, length, metadata, then what differs.
    fn older(version: u8, is_difference: bool) -> Vec<u8> {
        let mut bytes = b"MComprHD\0\0\0".to_vec();
        bytes.push(if version == 3 { 120 } else { 108 });
        bytes.extend([0, 0, 0, version, 0, 0, 0, u8::from(is_difference), 0, 0, 0, 1, 0, 0, 0, 2]);
        bytes.extend([8192u64.to_be_bytes(), 0x300u64.to_be_bytes()].concat());
        if version == 3 {
            bytes.extend([[3; 16], [4; 16]].concat());
            bytes.extend(4096u32.to_be_bytes());
            bytes.extend([[2; 20], [5; 20]].concat());
        } else {
            bytes.extend(4096u32.to_be_bytes());
            bytes.extend([[2; 20], [5; 20], [1; 20]].concat());
        }
        bytes
    }

    fn told(bytes: Vec<u8>) -> String {
        Header::read(&Bytes(bytes)).err().unwrap().to_string()
    }

    #[test]
    fn fields_are_where_each_version_has_them() {
        let five = Header::read(&Bytes(version_5())).unwrap();
        assert_eq!((five.version, five.codecs[0], five.codecs[1]), (5, Tag(*b"zlib"), Tag::NONE));
        assert_eq!((five.logical_len, five.map_offset, five.meta_offset), (0x10_0000, 0x200, 0x300));
        assert_eq!((five.hunk_len, five.unit_len, five.hunks()), (4096, 512, 256));
        assert_eq!((five.raw_sha1, five.sha1, five.parent, five.is_packed()), ([1; 20], [2; 20], None, true));
        let four = Header::read(&Bytes(older(4, true))).unwrap();
        assert_eq!((four.map_offset, four.hunk_len, four.hunks()), (108, 4096, 2));
        assert_eq!((four.raw_sha1, four.sha1, four.parent), ([1; 20], [2; 20], Some([5; 20])));
        let three = Header::read(&Bytes(older(3, false))).unwrap();
        assert_eq!((three.map_offset, three.raw_sha1, three.sha1, three.parent), (120, [2; 20], [2; 20], None));
    }

    #[test]
    fn what_cannot_be_is_told_with_the_field() {
        let changed = |at: usize, value: &[u8]| {
            let mut bytes = version_5();
            bytes[at..at + value.len()].copy_from_slice(value);
            bytes
        };
        assert!(told(version_5()[..15].to_vec()).contains("too short"));
        assert!(told(version_5()[..123].to_vec()).contains("the header ends at 0x7c"));
        assert!(told(changed(12, &[0, 0, 0, 2])).contains("version 2"));
        assert!(told(changed(11, &[120])).contains("a header of 120 bytes, where version 5 has 124"));
        assert!(told(changed(56, &[0, 0, 0, 0])).contains("hunks of 0 bytes"));
        assert!(told(changed(60, &[0, 0, 3, 0])).contains("no whole units of 768"));
        assert!(told(changed(32, &[0xff; 8])).contains("hunks at offset 0x20"));
    }

    #[test]
    fn metadata_are_a_chain_that_ends() {
        let entries = [Entry::text(b"GDDD", "CYLS:1"), Entry { tag: Tag(*b"IDNT"), flags: 0, data: vec![9; 3] }];
        let bytes = write_metadata(&entries, 0x40);
        // Tag, flags, length of the text and its zero, the place of the next, the text.
        assert_eq!(bytes[..16], [&b"GDDD"[..], &[1, 0, 0, 7], &0x57u64.to_be_bytes()].concat()[..]);
        assert_eq!(&bytes[16..23], b"CYLS:1\0");
        let file = [vec![0; 0x40], bytes].concat();
        let read = metadata(&Bytes(file.clone()), 0x40).unwrap();
        assert_eq!((read.len(), read[0].as_text(), read[1].data.as_slice()), (2, "CYLS:1".into(), &[9; 3][..]));
        let told = |bytes: Vec<u8>, at: u64| metadata(&Bytes(bytes), at).err().unwrap().to_string();
        assert!(told(file.clone(), 0x1000).contains("metadata entry 0 lies past the end"));
        let mut looped = file;
        looped[0x57 + 8..0x57 + 16].copy_from_slice(&0x40u64.to_be_bytes());
        assert!(told(looped, 0x40).contains("a loop"));
    }

    /// SHA-1 of the image's SHA-1 alone, where nothing else is covered; the order of entries does not count.
    #[test]
    fn the_overall_digest_is_of_the_image_and_what_is_covered() {
        let raw = of_bytes(Algorithm::Sha1, b"image").bytes;
        let (a, b) = (Entry::text(b"AAAA", "1"), Entry::text(b"BBBB", "2"));
        let free = Entry { tag: Tag(*b"CCCC"), flags: 0, data: vec![1] };
        assert_eq!(overall(&raw, std::slice::from_ref(&free)), of_bytes(Algorithm::Sha1, &raw).bytes);
        assert_eq!(overall(&raw, &[a.clone(), b.clone()]), overall(&raw, &[b.clone(), free, a.clone()]));
        assert_ne!(overall(&raw, &[a]), overall(&raw, &[b]));
    }
}
