//! Contents, lists of contents, control data, tickets: put together and encrypted from their layouts, with the museum's keys.

use super::cipher::encrypt_blocks;
use super::keys;
use super::section::Section;
use crate::content::secret;
use decanter_core::Result;
use decanter_core::digest::hex;
use decanter_core::keyring::Key;
use decanter_core::transform::Transform;
use decanter_core::view::{CtrRanges, Keystream, Xts};
use decanter_formats::package::sha256;

const UNIT: usize = 0x200;
const HEAD: usize = 0xc00;

/// How a content is encrypted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Crypto {
    /// Under keys in its own key area.
    KeyArea,
    /// Under a title key, which a ticket has.
    TitleKey,
}

/// What a content is made of.
pub(crate) struct Spec {
    /// 0 program, 1 list of contents, 2 control, 3 manual, 4 data.
    pub(crate) kind: u8,
    pub(crate) program_id: u64,
    pub(crate) generation: u8,
    pub(crate) crypto: Crypto,
    pub(crate) is_for_card: bool,
    pub(crate) sections: Vec<Section>,
}

/// The rights of a title, as contents and tickets name them.
pub(crate) fn rights(title_id: u64, generation: u8) -> [u8; 16] {
    let mut id = [0; 16];
    id[..8].copy_from_slice(&title_id.to_be_bytes());
    id[15] = generation;
    id
}

/// The title key of a title.
fn title_key(title_id: u64) -> Key {
    Key::new(secret(&format!("title key {title_id:016x}")).to_vec())
}

/// The content, encrypted.
pub(crate) fn nca(spec: &Spec) -> Result<Vec<u8>> {
    let revision = spec.generation.saturating_sub(1);
    let area_keys: Vec<[u8; 16]> =
        (0..4).map(|n| secret(&format!("area {:016x} {} {n}", spec.program_id, spec.kind))).collect();
    let section_key = match spec.crypto {
        Crypto::KeyArea => Key::new(area_keys[2].to_vec()),
        Crypto::TitleKey => title_key(spec.program_id),
    };
    let mut body = Vec::new();
    let mut places = Vec::new();
    let mut heads = Vec::new();
    let mut streams = Vec::new();
    let mut tweaked = Vec::new();
    for (index, section) in spec.sections.iter().enumerate() {
        let start = HEAD + body.len();
        body.extend(&section.bytes);
        body.resize(body.len().next_multiple_of(UNIT), 0);
        let end = HEAD + body.len();
        let (secure, generation) = (0x1000_0000 + index as u32, u32::from(!section.counters.is_empty()) * 3);
        let mut head = section.head.clone();
        head[0x140..0x144].copy_from_slice(&generation.to_le_bytes());
        head[0x144..0x148].copy_from_slice(&secure.to_le_bytes());
        let counter = |generation: u32, at: usize| {
            u128::from(u64::from(secure) << 32 | u64::from(generation)) << 64 | (at as u128 >> 4)
        };
        let mut stream = |from: usize, to: usize, generation: u32| {
            let (range, origin) = (from as u64..to as u64, from as u64);
            streams.push(Keystream { range, origin, counter: counter(generation, from), key: section_key.clone() });
        };
        match head[4] {
            3 => stream(start, end, generation),
            4 => {
                let mut tables = [0; 8];
                tables.copy_from_slice(&head[0x100..0x108]);
                let tables = u64::from_le_bytes(tables) as usize;
                for (index, (at, own)) in section.counters.iter().enumerate() {
                    let to = section.counters.get(index + 1).map_or(tables, |next| next.0 as usize);
                    stream(start + *at as usize, start + to, *own);
                }
                stream(start + tables, end, generation);
            }
            2 => tweaked.push(start..end),
            _ => {}
        }
        places.push((start / UNIT, end / UNIT));
        heads.push(head);
    }
    let mut own = vec![0; HEAD];
    own[0x200..0x204].copy_from_slice(b"NCA3");
    own[0x204] = u8::from(spec.is_for_card);
    own[0x205] = spec.kind;
    own[0x206] = spec.generation.min(2);
    own[0x208..0x210].copy_from_slice(&((HEAD + body.len()) as u64).to_le_bytes());
    own[0x210..0x218].copy_from_slice(&spec.program_id.to_le_bytes());
    own[0x21c..0x220].copy_from_slice(&0x000c_0300_u32.to_le_bytes());
    own[0x220] = if spec.generation > 2 { spec.generation } else { 0 };
    if spec.crypto == Crypto::TitleKey {
        own[0x230..0x240].copy_from_slice(&rights(spec.program_id, spec.generation));
    } else {
        let area: Vec<u8> = area_keys.concat();
        own[0x300..0x340].copy_from_slice(&encrypt_blocks(&keys::area(revision), &area));
    }
    for (index, ((start, end), head)) in places.iter().zip(&heads).enumerate() {
        let at = 0x240 + index * 0x10;
        own[at..at + 4].copy_from_slice(&(*start as u32).to_le_bytes());
        own[at + 4..at + 8].copy_from_slice(&(*end as u32).to_le_bytes());
        own[at + 8] = 1;
        own[0x280 + index * 0x20..0x2a0 + index * 0x20].copy_from_slice(&sha256(head));
        own[0x400 + index * UNIT..0x600 + index * UNIT].copy_from_slice(head);
    }
    let mut whole = own;
    whole.extend(body);
    for range in tweaked {
        let key = Key::new([area_keys[0], area_keys[1]].concat());
        Xts::new(&key, UNIT)?.encrypt(0, &mut whole[range]);
    }
    CtrRanges::new(streams)?.apply(0, &mut whole);
    Xts::new(&keys::header(), UNIT)?.encrypt(0, &mut whole[..HEAD]);
    Ok(whole)
}

/// A ticket for everybody, signed with zeros.
pub(crate) fn ticket(title_id: u64, generation: u8) -> (String, Vec<u8>) {
    let rights = rights(title_id, generation);
    let mut own = vec![0; 0x2c0];
    own[..4].copy_from_slice(&0x1_0004_u32.to_le_bytes());
    own[0x140..0x148].copy_from_slice(b"Root-MUS");
    let kek = keys::title_kek(generation.saturating_sub(1));
    own[0x180..0x190].copy_from_slice(&encrypt_blocks(&kek, title_key(title_id).bytes()));
    own[0x280] = 2;
    own[0x285] = generation;
    own[0x2a0..0x2b0].copy_from_slice(&rights);
    (format!("{}.tik", hex(&rights)), own)
}

/// A list of contents as it stands in its file.
pub(crate) struct List<'a> {
    pub(crate) title_id: u64,
    pub(crate) version: u32,
    /// 0x80 base, 0x81 update, 0x82 add-on.
    pub(crate) kind: u8,
    pub(crate) base: u64,
    /// Version of the system, or of the base for an add-on.
    pub(crate) needs: u32,
    /// Each content with its kind.
    pub(crate) contents: &'a [(u8, Vec<u8>)],
    /// Contents that are listed and stand nowhere.
    pub(crate) gone: &'a [(u8, Vec<u8>)],
}

impl List<'_> {
    pub(crate) fn bytes(&self) -> Vec<u8> {
        let mut extended = match self.kind {
            0x80 => (self.title_id | 0x800).to_le_bytes().to_vec(),
            _ => self.base.to_le_bytes().to_vec(),
        };
        extended.extend(self.needs.to_le_bytes());
        extended.resize(if self.kind == 0x81 { 0x18 } else { 0x10 }, 0);
        let mut own = self.title_id.to_le_bytes().to_vec();
        own.extend(self.version.to_le_bytes());
        own.extend([self.kind, 0]);
        own.extend((extended.len() as u16).to_le_bytes());
        own.extend(((self.contents.len() + self.gone.len()) as u16).to_le_bytes());
        own.resize(0x20, 0);
        own.extend(extended);
        for (kind, bytes) in self.contents.iter().chain(self.gone) {
            let hash = sha256(bytes);
            own.extend(hash);
            own.extend(&hash[..16]);
            own.extend(&(bytes.len() as u64).to_le_bytes()[..6]);
            own.extend([*kind, 0]);
        }
        own.extend(secret(&format!("list {:016x}", self.title_id)));
        own.extend([0; 16]);
        own
    }
}

/// Control data with names in three languages.
pub(crate) fn control(titles: &[(usize, &str)], publisher: &str, version: &str) -> Vec<u8> {
    let mut own = vec![0; 0x4000];
    let mut put = |at: usize, text: &str| own[at..at + text.len()].copy_from_slice(text.as_bytes());
    let mut languages = 0u32;
    for (language, title) in titles {
        put(language * 0x300, title);
        put(language * 0x300 + 0x200, publisher);
        languages |= 1 << language;
    }
    put(0x3060, version);
    own[0x302c..0x3030].copy_from_slice(&languages.to_le_bytes());
    own
}
