//! Disc descriptions of PS3 discs ("3IRD", versions 6 to 9): everything needed to prove a dump, and what a disc key
//! can be derived from. The file as a whole is gzip'd. Layout and what is not sure: docs/formats/ird.md.

use crate::optical::ps3::regions::{self, RegionTable};
use decanter_core::digest::{self, Algorithm, Digest};
use decanter_core::expectation::{Expectation, ExpectedFile, ExpectedRange, RangeCheck};
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::keyring::Key;
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Bytes, Source, SourceRef, read_array, read_vec};
use decanter_core::tree::Tree;
use decanter_core::view::{Concat, Fill};
use decanter_core::{Error, Result, SECTOR};
use flate2::read::GzDecoder;
use flate2::{Compression, GzBuilder};
use std::io::{Read, Write};
use std::sync::Arc;
use zeroize::Zeroizing;

const ID: &str = "ird";
const MAGIC: &[u8; 4] = b"3IRD";
const GZIP: [u8; 2] = [0x1f, 0x8b];
/// The most bytes a packed or unpacked description may have. Real ones stay under 1 MiB.
const MOST_BYTES: u64 = 64 << 20;
/// The most bytes of a packed file that are taken for a description.
const MOST_PACKED: u64 = 16 << 20;
/// Bytes of the PIC area.
const PIC_LEN: usize = 115;

/// A disc description.
#[derive(Clone, PartialEq, Eq)]
pub struct Description {
    /// Layout version, 6 to 9.
    pub version: u8,
    /// Disc id without a hyphen, nine characters.
    pub id: String,
    /// Title.
    pub title: String,
    /// System version of the update on the disc, as in `3.41`.
    pub update_version: String,
    /// Version of the disc's content.
    pub game_version: String,
    /// Version of the application.
    pub app_version: String,
    /// Number of the description itself; version 6 has none.
    pub uid: Option<u32>,
    /// The disc's first sectors, up to the first file.
    pub header: Vec<u8>,
    /// The disc's last sectors, from after the last file.
    pub footer: Vec<u8>,
    /// MD5 of each region, plain and encrypted in turn.
    pub region_md5: Vec<[u8; 16]>,
    /// First sector of each file, and the MD5 of its decrypted content.
    pub file_md5: Vec<(u64, [u8; 16])>,
    /// Two 16-bit fields that are carried along.
    pub extra: [u16; 2],
    /// The disc's permanent information and control area.
    pub pic: Box<[u8; PIC_LEN]>,
    /// What the disc key is derived from. A secret as good as the key.
    pub data1: Key,
    /// A second per-disc value.
    pub data2: Key,
}

/// The unpacked bytes with a position.
struct Fields<'a> {
    bytes: &'a [u8],
    at: usize,
}

impl<'a> Fields<'a> {
    fn take(&mut self, len: usize, what: &'static str) -> Result<&'a [u8]> {
        let found = self.bytes.get(self.at..).and_then(|rest| rest.get(..len));
        let found = found.ok_or_else(|| Error::malformed(ID, format!("{what} is cut short"), self.at as u64))?;
        self.at += len;
        Ok(found)
    }

    fn array<const N: usize>(&mut self, what: &'static str) -> Result<[u8; N]> {
        let mut array = [0; N];
        array.copy_from_slice(self.take(N, what)?);
        Ok(array)
    }

    fn u32(&mut self, what: &'static str) -> Result<u32> {
        Ok(u32::from_le_bytes(self.array(what)?))
    }

    /// A length of seven bits a byte, low bits first; the highest bit says that another byte follows. Two bytes at most.
    fn length(&mut self, what: &'static str) -> Result<usize> {
        let at = self.at as u64;
        let [low] = self.array(what)?;
        let high = if low & 0x80 != 0 { self.array::<1>(what)?[0] } else { 0 };
        if high & 0x80 != 0 {
            return Err(Error::malformed(ID, format!("the length of {what} has more than two bytes"), at));
        }
        Ok(usize::from(low & 0x7f) | usize::from(high) << 7)
    }

    fn text(&mut self, len: usize, what: &'static str) -> Result<String> {
        let bytes = self.take(len, what)?;
        Ok(String::from_utf8_lossy(bytes).trim_end_matches(['\0', ' ']).to_owned())
    }

    /// A packed block: its length (u32), then a gzip member.
    fn packed(&mut self, what: &'static str) -> Result<Vec<u8>> {
        let at = self.at as u64;
        let len = self.u32(what)? as usize;
        let packed = self.take(len, what)?;
        let bytes = unpack(packed).map_err(|e| Error::malformed(ID, format!("{what} cannot be unpacked ({e})"), at))?;
        if !(bytes.len() as u64).is_multiple_of(SECTOR) {
            return Err(Error::malformed(ID, format!("{what} is not made of whole sectors"), at));
        }
        Ok(bytes)
    }
}

/// Unpacks a gzip member, up to a limit.
fn unpack(packed: &[u8]) -> std::io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    GzDecoder::new(packed).take(MOST_BYTES + 1).read_to_end(&mut bytes)?;
    if bytes.len() as u64 > MOST_BYTES {
        return Err(std::io::Error::other("it unpacks to more than 64 MiB"));
    }
    Ok(bytes)
}

fn pack(bytes: &[u8]) -> Vec<u8> {
    let mut encoder = GzBuilder::new().mtime(0).write(Vec::new(), Compression::best());
    // Writing into memory does not fail.
    let _ = encoder.write_all(bytes);
    encoder.finish().unwrap_or_default()
}

impl Description {
    /// Reads a description, packed as it is kept or unpacked.
    ///
    /// # Errors
    /// [`Error::Malformed`] with the offset in the unpacked bytes; [`Error::Checksum`]; [`Error::Unsupported`] for
    /// other versions.
    pub fn parse(content: &[u8]) -> Result<Self> {
        let unpacked;
        let bytes = if content.starts_with(&GZIP) {
            unpacked = Zeroizing::new(
                unpack(content).map_err(|e| Error::malformed(ID, format!("it cannot be unpacked ({e})"), 0))?,
            );
            &unpacked
        } else {
            content
        };
        let mut f = Fields { bytes, at: 0 };
        if f.take(4, "the magic")? != MAGIC {
            return Err(Error::malformed(ID, "it does not begin with 3IRD", 0));
        }
        let version = f.array::<1>("the version")?[0];
        if !(6..=9).contains(&version) {
            return Err(Error::unsupported(ID, format!("version {version}")));
        }
        check_crc(bytes)?;
        let id = f.text(9, "the disc id")?;
        let title_len = f.length("the title")?;
        let title = f.text(title_len, "the title")?;
        let update_version = f.text(4, "the update version")?;
        let game_version = f.text(5, "the game version")?;
        let app_version = f.text(5, "the application version")?;
        let mut uid = if version == 7 { Some(f.u32("the number")?) } else { None };
        let header = f.packed("the header")?;
        let footer = f.packed("the footer")?;
        let regions = f.array::<1>("the region count")?[0];
        let region_md5 = (0..regions).map(|_| f.array("a region digest")).collect::<Result<_>>()?;
        let files = f.u32("the file count")? as usize;
        let left = bytes.len() - f.at;
        if files > left / 24 {
            return Err(Error::malformed(ID, format!("{files} files in {left} bytes"), f.at as u64 - 4));
        }
        let mut file_md5 = Vec::with_capacity(files);
        for _ in 0..files {
            file_md5.push((u64::from_le_bytes(f.array("a file's sector")?), f.array("a file digest")?));
        }
        let extra = [f.array("a reserved field")?, f.array("a reserved field")?].map(u16::from_le_bytes);
        let mut pic = Box::new([0; PIC_LEN]);
        if version >= 9 {
            *pic = f.array("the PIC area")?;
        }
        let data1 = Key::new(f.take(16, "data 1")?.to_vec());
        let data2 = Key::new(f.take(16, "data 2")?.to_vec());
        if version < 9 {
            *pic = f.array("the PIC area")?;
        }
        if version > 7 {
            uid = Some(f.u32("the number")?);
        }
        f.u32("the CRC")?;
        if f.at != bytes.len() {
            return Err(Error::malformed(ID, format!("{} bytes after the end", bytes.len() - f.at), f.at as u64));
        }
        Ok(Self {
            version,
            id,
            title,
            update_version,
            game_version,
            app_version,
            uid,
            header,
            footer,
            region_md5,
            file_md5,
            extra,
            pic,
            data1,
            data2,
        })
    }

    /// Lays the description out, packed.
    ///
    /// # Errors
    /// [`Error::Usage`] when a field is longer than its place.
    pub fn compose(&self) -> Result<Vec<u8>> {
        let too_long = |what: &str| Error::Usage(format!("the {what} of a disc description is too long"));
        let mut out = MAGIC.to_vec();
        out.push(self.version);
        let fixed = |text: &str, len: usize, what: &str| {
            let mut bytes = text.as_bytes().to_vec();
            if bytes.len() > len {
                return Err(too_long(what));
            }
            bytes.resize(len, 0);
            Ok(bytes)
        };
        out.extend(fixed(&self.id, 9, "id")?);
        match self.title.len() {
            short @ 0..0x80 => out.push(short as u8),
            long @ 0x80..0x4000 => out.extend([long as u8 | 0x80, (long >> 7) as u8]),
            _ => return Err(too_long("title")),
        }
        out.extend(self.title.as_bytes());
        out.extend(fixed(&self.update_version, 4, "update version")?);
        out.extend(fixed(&self.game_version, 5, "game version")?);
        out.extend(fixed(&self.app_version, 5, "application version")?);
        let uid = self.uid.unwrap_or_default().to_le_bytes();
        if self.version == 7 {
            out.extend(uid);
        }
        for block in [&self.header, &self.footer] {
            let packed = pack(block);
            out.extend((packed.len() as u32).to_le_bytes());
            out.extend(packed);
        }
        out.push(u8::try_from(self.region_md5.len()).map_err(|_| too_long("list of regions"))?);
        out.extend(self.region_md5.as_flattened());
        out.extend((self.file_md5.len() as u32).to_le_bytes());
        for (sector, md5) in &self.file_md5 {
            out.extend(sector.to_le_bytes());
            out.extend(md5);
        }
        out.extend(self.extra.iter().flat_map(|e| e.to_le_bytes()));
        if self.version >= 9 {
            out.extend(*self.pic);
        }
        out.extend(self.data1.bytes());
        out.extend(self.data2.bytes());
        if self.version < 9 {
            out.extend(*self.pic);
        }
        if self.version > 7 {
            out.extend(uid);
        }
        out.extend(crc32fast::hash(&out).to_le_bytes());
        Ok(pack(&out))
    }

    /// The id as it is printed on a disc: `DCNT10001` is `DCNT-10001`.
    pub fn printed_id(&self) -> String {
        match self.id.split_at_checked(4) {
            Some((letters, digits)) if !digits.is_empty() => format!("{letters}-{digits}"),
            _ => self.id.clone(),
        }
    }

    /// The disc key, given the secrets it is derived with: AES-128-CBC encryption of data 1.
    ///
    /// # Errors
    /// [`Error::Usage`] when a secret has not 16 bytes.
    pub fn disc_key(&self, key: &Key, iv: &Key) -> Result<Key> {
        use aes::cipher::{Array, BlockModeEncrypt, KeyIvInit};
        let mut block = Array::from(*self.data1.bytes16()?);
        let (key, iv) = (Array::from(*key.bytes16()?), Array::from(*iv.bytes16()?));
        cbc::Encryptor::<aes::Aes128>::new(&key, &iv).encrypt_block(&mut block);
        Ok(Key::new(block.to_vec()))
    }

    /// The disc as far as the header shows it: its first sectors, and zeros up to the end.
    fn skeleton(&self) -> Result<SourceRef> {
        let header = Bytes(self.header.clone());
        let len = RegionTable::read(&header)?.disc_len();
        let rest = Fill { byte: 0, len: len.saturating_sub(header.len()) };
        Ok(Arc::new(Concat::new(vec![Arc::new(header), Arc::new(rest)])?))
    }

    /// What a disc should hold.
    ///
    /// # Errors
    /// When the header is no beginning of a disc.
    fn expectation(&self, tree: &Tree) -> Result<Expectation> {
        let header: Arc<[u8]> = self.header.clone().into();
        let table = RegionTable::read(&Bytes(self.header.clone()))?;
        let len = table.disc_len();
        let md5 = |bytes: &[u8; 16]| Digest { algorithm: Algorithm::Md5, bytes: bytes.to_vec() };
        let mut ranges = vec![ExpectedRange {
            name: "header".into(),
            offset: 0,
            len: header.len() as u64,
            check: RangeCheck::Bytes(header),
        }];
        for (index, (region, digest)) in table.regions.iter().zip(&self.region_md5).enumerate() {
            ranges.push(ExpectedRange {
                name: format!("region {index}"),
                offset: region.range.start,
                len: region.range.end - region.range.start,
                check: RangeCheck::EitherForm(md5(digest)),
            });
        }
        if let Some(offset) = len.checked_sub(self.footer.len() as u64) {
            ranges.push(ExpectedRange {
                name: "footer".into(),
                offset,
                len: self.footer.len() as u64,
                check: RangeCheck::Bytes(self.footer.clone().into()),
            });
        }
        let files = self.file_md5.iter().map(|(sector, digest)| {
            let offset = sector.saturating_mul(SECTOR);
            let named = tree.files().find(|(_, f)| f.len > 0 && f.spans.first().is_some_and(|s| s.start == offset));
            let named =
                named.or_else(|| tree.files().find(|(_, f)| f.spans.first().is_some_and(|s| s.start == offset)));
            ExpectedFile {
                path: named.map(|(n, _)| n.path.clone()),
                offset: Some(offset),
                len: named.map(|(_, f)| f.len),
                digest: md5(digest),
            }
        });
        Ok(Expectation {
            name: format!("disc description of {}", self.printed_id()),
            ids: vec![self.printed_id()],
            len: Some(len),
            files: files.collect(),
            ranges,
        })
    }
}

/// The last four bytes are the CRC-32 of everything before them.
fn check_crc(bytes: &[u8]) -> Result<()> {
    let Some((body, crc)) = bytes.split_last_chunk::<4>() else {
        return Err(Error::malformed(ID, "it is cut short", bytes.len() as u64));
    };
    let (expected, found) = (u32::from_le_bytes(*crc), digest::of_bytes(Algorithm::Crc32, body));
    if found.bytes == expected.to_be_bytes() {
        return Ok(());
    }
    Err(Error::Checksum {
        what: "the disc description".into(),
        expected: format!("CRC-32 {expected:08x}"),
        found: found.hex(),
    })
}

/// The format.
pub struct Ird;

impl Format for Ird {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "PS3 disc description"
    }

    fn role(&self) -> Role {
        Role::Description
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["ird"]
    }

    fn reads(&self) -> &'static str {
        "versions 6 to 9: ids, digests of files and regions, header and footer; the disc key from data 1"
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(MAGIC), Mark::first(&GZIP)] }
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        if source.len() < 18 {
            return Ok(None);
        }
        let head: [u8; 4] = read_array(source, 0)?;
        if &head == MAGIC {
            return Ok(Some(90));
        }
        if !head.starts_with(&GZIP) || source.len() > MOST_PACKED {
            return Ok(None);
        }
        let packed = read_vec(source, 0, source.len().min(4096), "a disc description", 4096)?;
        let mut magic = [0; 4];
        let read = GzDecoder::new(packed.as_slice()).read_exact(&mut magic);
        Ok((read.is_ok() && &magic == MAGIC).then_some(90))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let content = read_vec(source.as_ref(), 0, source.len(), "a disc description", MOST_PACKED)?;
        let d = Description::parse(&content)?;
        let mut opened = Opened::new(ID, format!("PS3 disc description, version {}", d.version));
        opened.titled(d.title.clone());
        opened.identified(d.printed_id());
        opened.fact("version", d.game_version.clone());
        opened.fact("application", d.app_version.clone());
        opened.fact("update on disc", d.update_version.clone());
        if let Some(uid) = d.uid {
            opened.fact("number", format!("{uid:08x}"));
        }
        opened.fact("describes", format!("{} files, {} regions", d.file_md5.len(), d.region_md5.len()));
        opened.fact("carries", "data 1, which the disc key is derived from");
        opened.told.parameters = vec![
            ("header sectors".into(), (d.header.len() as u64 / SECTOR).to_string()),
            ("footer sectors".into(), (d.footer.len() as u64 / SECTOR).to_string()),
            ("extra fields".into(), format!("{:#06x} {:#06x}", d.extra[0], d.extra[1])),
        ];
        for (index, md5) in d.region_md5.iter().enumerate() {
            opened.told.parameters.push((format!("region {index} MD5"), digest::hex(md5)));
        }
        let names = self.read_names(&d, opener, &mut opened)?;
        match d.expectation(&names) {
            Ok(expectation) => {
                for file in &expectation.files {
                    let sector = file.offset.unwrap_or_default() / SECTOR;
                    let name = file.path.clone().unwrap_or_else(|| format!("file at sector {sector}"));
                    opened.told.parameters.push((format!("{name} MD5"), file.digest.hex()));
                }
                opened.holds.expectation = Some(Arc::new(expectation));
            }
            Err(e) => {
                opened.notice(format!("its header is no beginning of a disc, so nothing can be held against it: {e}"))
            }
        }
        Ok(opened)
    }
}

impl Ird {
    /// The tree that the header's sectors hold, for the files' names.
    fn read_names(&self, d: &Description, opener: &Opener<'_>, opened: &mut Opened) -> Result<Tree> {
        if !regions::has_magic(&Bytes(d.header.clone()))? {
            opened.notice("its header lacks the disc's magic in sector 1");
        }
        // Without the disc format: keys would be looked for, and there is nothing to decrypt.
        let names = d.skeleton().and_then(|s| opener.inside()?.open_among(s, &|f| f.id() != "ps3-disc"));
        match names {
            Ok(volume) => Ok(volume.holds.tree.unwrap_or_default()),
            Err(Error::Cancelled) => Err(Error::Cancelled),
            Err(e) => {
                opened.notice(format!("the files' names cannot be read from its header: {e}"));
                Ok(Tree::default())
            }
        }
    }
}
