//! PARAM.SFO: a table of named parameters (the "PSF" of PSP, PS3 and PS4). Layout: docs/formats/sfo.md.

use decanter_core::error::Blame;
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::label::Label;
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Source, SourceRef, read_vec};
use decanter_core::tree::{Content, Tree};
use decanter_core::{Error, Result};
use std::collections::BTreeMap;
use zerocopy::byteorder::{LE, U16, U32};
use zerocopy::{FromBytes, Immutable, KnownLayout, Unaligned};

const ID: &str = "sfo";
const MAGIC: &[u8; 4] = b"\0PSF";
/// Parameter files have a few hundred bytes; this leaves room for any.
const MOST_BYTES: u64 = 1 << 20;
/// The most bytes that are reserved for a value.
const MOST_ROOM: u32 = 64 << 10;

#[derive(FromBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct RawHeader {
    magic: [u8; 4],
    version: U32<LE>,
    keys_at: U32<LE>,
    values_at: U32<LE>,
    count: U32<LE>,
}

#[derive(FromBytes, KnownLayout, Immutable, Unaligned)]
#[repr(C)]
struct RawEntry {
    key_offset: U16<LE>,
    kind: U16<LE>,
    len: U32<LE>,
    room: U32<LE>,
    value_offset: U32<LE>,
}

const HEADER_LEN: usize = 20;
const ENTRY_LEN: usize = 16;
const _: () = assert!(size_of::<RawHeader>() == HEADER_LEN && size_of::<RawEntry>() == ENTRY_LEN);

/// UTF-8 without a terminator, or bytes.
const UNTERMINATED: u16 = 0x0004;
/// UTF-8 with a terminating zero.
const TEXT: u16 = 0x0204;
/// A 32-bit number, little-endian.
const NUMBER: u16 = 0x0404;

/// The value of one parameter.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Value {
    /// A text.
    Text(String),
    /// A number.
    Number(u32),
    /// Bytes, or a text without a zero at its end.
    Bytes(Vec<u8>),
    /// A value of a kind that is not known: kind, bytes.
    Other(u16, Vec<u8>),
}

impl Value {
    /// As it is shown.
    fn shown(&self) -> String {
        match self {
            Self::Text(text) => text.clone(),
            Self::Number(number) => format!("{number} ({number:#x})"),
            Self::Bytes(bytes) | Self::Other(_, bytes) => {
                let end = bytes.iter().position(|&b| b == 0).unwrap_or(bytes.len());
                let is_text = end > 0 && bytes[end..].iter().all(|&b| b == 0);
                let text = std::str::from_utf8(&bytes[..end]).ok().filter(|t| is_text && !t.contains(char::is_control));
                text.map_or_else(|| format!("{} bytes", bytes.len()), str::to_owned)
            }
        }
    }

    /// Its kind, and its bytes.
    fn stored(&self) -> (u16, Vec<u8>) {
        match self {
            Self::Text(text) => (TEXT, [text.as_bytes(), &[0]].concat()),
            Self::Number(number) => (NUMBER, number.to_le_bytes().to_vec()),
            Self::Bytes(bytes) => (UNTERMINATED, bytes.clone()),
            Self::Other(kind, bytes) => (*kind, bytes.clone()),
        }
    }
}

/// All parameters, in the order of the file.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Parameters {
    /// Names and values.
    pub entries: Vec<(String, Value)>,
    /// Bytes that are reserved for values, by name, where they are more than a value needs.
    pub rooms: BTreeMap<String, u32>,
}

impl Parameters {
    /// Reads a parameter file.
    ///
    /// # Errors
    /// As [`Parameters::parse`]; [`Error::Limit`] for one that is longer than any; what reading fails with.
    pub fn read(source: &dyn Source) -> Result<Self> {
        Self::parse(&read_vec(source, 0, source.len(), "a parameter file", MOST_BYTES)?)
    }

    /// Reads the whole table.
    ///
    /// # Errors
    /// [`Error::Malformed`] with the offset of the first field that leads outside the file.
    pub fn parse(bytes: &[u8]) -> Result<Self> {
        let bad = |what: &'static str, offset: usize| Err(Error::malformed(ID, what, offset as u64));
        let Ok((header, rest)) = RawHeader::ref_from_prefix(bytes) else { return bad("the header is cut short", 0) };
        if &header.magic != MAGIC {
            return bad("it does not begin with \\0PSF", 0);
        }
        let count = header.count.get() as usize;
        let Ok((raw, _)) = <[RawEntry]>::ref_from_prefix_with_elems(rest, count) else {
            return bad("more entries than the file has room for", 0x10);
        };
        let (keys_at, values_at) = (header.keys_at.get() as usize, header.values_at.get() as usize);
        let (mut entries, mut rooms) = (Vec::with_capacity(count), BTreeMap::new());
        for (index, entry) in raw.iter().enumerate() {
            let at = HEADER_LEN + index * ENTRY_LEN;
            let key = bytes.get(keys_at.saturating_add(entry.key_offset.get().into())..).unwrap_or_default();
            let Some(end) = key.iter().position(|&b| b == 0) else { return bad("a name outside the file", at) };
            let name = String::from_utf8_lossy(&key[..end]).into_owned();
            let start = values_at.saturating_add(entry.value_offset.get() as usize);
            let Some(value) = bytes.get(start..start.saturating_add(entry.len.get() as usize)) else {
                return bad("a value outside the file", at + 12);
            };
            let value = match (entry.kind.get(), value) {
                // Only what is written back as it stands there is a text: others are kept byte for byte.
                (TEXT, text) => match text.split_last().map(|(last, text)| (last, std::str::from_utf8(text))) {
                    Some((0, Ok(text))) if !text.contains('\0') => Value::Text(text.to_owned()),
                    _ => Value::Other(TEXT, text.to_vec()),
                },
                (NUMBER, &[a, b, c, d]) => Value::Number(u32::from_le_bytes([a, b, c, d])),
                (UNTERMINATED, bytes) => Value::Bytes(bytes.to_vec()),
                (kind, other) => Value::Other(kind, other.to_vec()),
            };
            rooms.insert(name.clone(), entry.room.get());
            entries.push((name, value));
        }
        Ok(Self { entries, rooms })
    }

    /// The text called `name`, without spaces at its ends.
    pub fn text(&self, name: &str) -> Option<&str> {
        self.entries.iter().find(|(n, _)| n == name).and_then(|(_, v)| match v {
            Value::Text(text) => Some(text.trim()),
            Value::Bytes(bytes) | Value::Other(TEXT, bytes) => {
                let end = bytes.iter().position(|&b| b == 0).unwrap_or(bytes.len());
                std::str::from_utf8(&bytes[..end]).ok().map(str::trim)
            }
            _ => None,
        })
    }

    /// The number called `name`.
    pub fn number(&self, name: &str) -> Option<u32> {
        self.entries.iter().find(|(n, _)| n == name).and_then(|(_, v)| match v {
            Value::Number(number) => Some(*number),
            _ => None,
        })
    }

    /// The category, with what it stands for where that is known.
    pub fn category(&self) -> String {
        let code = self.text("CATEGORY").unwrap_or_default();
        let meaning = match code {
            "DG" => "disc game",
            "HG" => "installed game",
            "GD" => "game data",
            "AR" => "installed application",
            "SD" => "save data",
            "UG" => "PSP disc game",
            "EG" => "PSP installed game",
            "MS" => "PSP save data",
            "1P" => "PS1 classic",
            "2P" => "PS2 classic",
            "MN" => "minis",
            "PP" => "PSP remaster",
            "gd" => "game",
            "gda" => "system application",
            "gdc" => "large application",
            "gdd" => "background application",
            "gde" => "small application",
            "gp" => "update",
            "gpc" => "update of a large application",
            "gpd" => "update of a background application",
            "gpe" => "update of a small application",
            "ac" => "add-on",
            "sd" => "save data",
            _ => return code.to_owned(),
        };
        format!("{meaning} ({code})")
    }

    /// The version as packages have it: `01.00` is 0x0100; `None` where there is none of this form.
    pub fn version(&self) -> Option<u16> {
        let (whole, part) = self.text("VERSION")?.split_once('.')?;
        let is_number = |digits: &str| digits.len() == 2 && digits.bytes().all(|b| b.is_ascii_digit());
        let digits = (is_number(whole) && is_number(part)).then(|| format!("{whole}{part}"))?;
        u16::from_str_radix(&digits, 16).ok()
    }

    /// Puts a value in its place, with room for at least so many bytes.
    pub fn put(&mut self, name: &str, value: Value, room: u32) {
        let kept = self.rooms.entry(name.to_owned()).or_insert(0);
        *kept = room.max(*kept);
        match self.entries.iter_mut().find(|(n, _)| n == name) {
            Some((_, old)) => *old = value,
            None => self.entries.push((name.to_owned(), value)),
        }
    }

    /// Lays the table out: entries sorted by name, as consoles expect them, every text with its zero, every value with the
    /// room that it had.
    pub fn compose(&self) -> Vec<u8> {
        let mut sorted: Vec<_> = self.entries.iter().collect();
        sorted.sort_by(|a, b| a.0.cmp(&b.0));
        let (mut index, mut keys, mut values) = (Vec::new(), Vec::new(), Vec::new());
        for (name, value) in sorted {
            let (kind, bytes) = value.stored();
            let reserved = self.rooms.get(name).copied().unwrap_or(0).min(MOST_ROOM) as usize;
            let room = bytes.len().next_multiple_of(4).max(reserved);
            index.extend((keys.len() as u16).to_le_bytes());
            index.extend(kind.to_le_bytes());
            index.extend((bytes.len() as u32).to_le_bytes());
            index.extend((room as u32).to_le_bytes());
            index.extend((values.len() as u32).to_le_bytes());
            keys.extend([name.as_bytes(), &[0]].concat());
            values.extend(&bytes);
            values.resize(values.len() + room - bytes.len(), 0);
        }
        keys.resize(keys.len().next_multiple_of(4), 0);
        let keys_at = HEADER_LEN + index.len();
        let words = [0x0101, keys_at as u32, (keys_at + keys.len()) as u32, self.entries.len() as u32];
        let mut bytes = MAGIC.to_vec();
        bytes.extend(words.iter().flat_map(|w| w.to_le_bytes()));
        bytes.extend([index, keys, values].concat());
        bytes
    }
}

/// The format.
pub struct Sfo;

impl Format for Sfo {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "PARAM.SFO parameter file"
    }

    fn role(&self) -> Role {
        Role::Record
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["sfo"]
    }

    fn reads(&self) -> &'static str {
        "title, id, version and category; every parameter with list"
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark::first(MAGIC)] }
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok((source.len() >= HEADER_LEN as u64).then_some(90))
    }

    fn open(&self, source: SourceRef, _opener: &Opener<'_>) -> Result<Opened> {
        let parameters = Parameters::read(source.as_ref())?;
        let mut opened = Opened::new(ID, self.name());
        opened.titled(parameters.text("TITLE").unwrap_or_default());
        opened.identified(parameters.text("TITLE_ID").or(parameters.text("DISC_ID")).unwrap_or_default());
        opened.fact("version", parameters.text("VERSION").or(parameters.text("APP_VER")).unwrap_or_default());
        opened.fact("category", parameters.category());
        for (name, value) in &parameters.entries {
            opened.told.parameters.push((name.clone(), value.shown()));
        }
        Ok(opened)
    }
}

/// The first of these parameter files that a tree has, opened; `None` where there is none, and with a word in
/// `opened` where it cannot be read.
///
/// # Errors
/// What the machine is to blame for, and a stop.
pub(crate) fn in_tree(opened: &mut Opened, tree: &Tree, paths: &[&str], opener: &Opener<'_>) -> Result<Option<Opened>> {
    let found = paths.iter().find_map(|path| Some((path, tree.find(path)?.file()?)));
    let Some((path, file)) = found else { return Ok(None) };
    match &file.content {
        Content::Locked(_) => {
            opened.notice(format!("the title stands in {path}, which can be read once the key is known"));
        }
        Content::Whole(source) => match opener.inside()?.open(source.clone()) {
            Ok(parameters) => return Ok(Some(parameters)),
            Err(e) if matches!(e.blame(), Blame::Machine | Blame::Stopped) => return Err(e),
            Err(e) => opened.damage(format!("{path} cannot be used: {e}")),
        },
        _ => opened.damage(format!("{path} is not all there")),
    }
    Ok(None)
}

/// The titles that parameters have in numbered languages, and the pictures that stand beside them: their paths, and what each
/// is. `None` where there are neither.
pub(crate) fn label<'a>(
    parameters: impl Iterator<Item = &'a (String, String)>,
    languages: &[&'static str],
    tree: Option<&Tree>,
    pictures: &[(&str, &'static str)],
) -> Option<Label> {
    let mut label = Label::default();
    for (name, title) in parameters {
        let number = name.strip_prefix("TITLE_").and_then(|digits| digits.parse::<usize>().ok());
        if let Some(language) = number.and_then(|n| languages.get(n)) {
            label.titles.push((language, title.clone()));
        }
    }
    for (path, what) in pictures {
        let file = tree.and_then(|t| t.find(path)).and_then(|n| n.file());
        if let Some(Content::Whole(picture)) = file.map(|f| &f.content) {
            label.packed.push((what, picture.clone()));
        }
    }
    (!label.titles.is_empty() || !label.packed.is_empty()).then_some(label)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Two entries, laid out by hand.
    #[test]
    fn fixed_bytes() {
        let mut bytes = b"\0PSF\x01\x01\0\0\x34\0\0\0\x44\0\0\0\x02\0\0\0".to_vec();
        bytes.extend(b"\0\0\x04\x04\x04\0\0\0\x04\0\0\0\0\0\0\0");
        bytes.extend(b"\x09\0\x04\x02\x05\0\0\0\x08\0\0\0\x04\0\0\0");
        bytes.extend(b"BOOTABLE\0TITLE\0\0");
        bytes.extend(b"\x01\0\0\0Moth\0\0\0\0");
        let parsed = Parameters::parse(&bytes).unwrap();
        let want = vec![("BOOTABLE".into(), Value::Number(1)), ("TITLE".into(), Value::Text("Moth".into()))];
        assert_eq!(parsed.entries, want);
        assert_eq!(parsed.compose(), bytes);
    }

    /// Texts without their zero, bytes, odd kinds and reserved room: all of it comes back as it was.
    #[test]
    fn what_is_no_plain_text_is_kept_byte_for_byte() {
        let mut bytes = b"\0PSF\x01\x01\0\0\x54\0\0\0\x5c\0\0\0\x04\0\0\0".to_vec();
        bytes.extend(b"\0\0\x04\0\x03\0\0\0\x08\0\0\0\0\0\0\0");
        bytes.extend(b"\x02\0\x04\x02\x04\0\0\0\x04\0\0\0\x08\0\0\0");
        bytes.extend(b"\x04\0\x04\x02\x05\0\0\0\x10\0\0\0\x0c\0\0\0");
        bytes.extend(b"\x06\0\x04\x04\x02\0\0\0\x04\0\0\0\x1c\0\0\0");
        bytes.extend(b"A\0B\0C\0D\0");
        bytes.extend(b"abc\0\0\0\0\0tide");
        bytes.extend(b"moth\0\0\0\0\0\0\0\0\0\0\0\0");
        bytes.extend(b"\x01\x02\0\0");
        let parsed = Parameters::parse(&bytes).unwrap();
        let shown: Vec<String> = parsed.entries.iter().map(|(_, v)| v.shown()).collect();
        assert_eq!(shown, ["abc", "tide", "moth", "2 bytes"]);
        assert_eq!((parsed.text("A"), parsed.text("B"), parsed.text("D")), (Some("abc"), Some("tide"), None));
        assert_eq!(parsed.compose(), bytes);
    }

    #[test]
    fn fields_that_lead_outside_are_named() {
        let offset = |change: &dyn Fn(&mut Vec<u8>)| {
            let entries = vec![("TITLE".into(), Value::Text("Moth".into()))];
            let mut bytes = Parameters { entries, ..Parameters::default() }.compose();
            change(&mut bytes);
            match Parameters::parse(&bytes) {
                Err(Error::Malformed { offset, .. }) => Some(offset),
                _ => None,
            }
        };
        assert_eq!(offset(&|_| ()), None);
        assert_eq!(offset(&|b| b[16] = 200), Some(0x10), "count");
        assert_eq!(offset(&|b| b[20] = 0xff), Some(20), "name");
        assert_eq!(offset(&|b| b[32..36].fill(0xff)), Some(32), "value offset");
        assert_eq!(offset(&|b| b[24..28].fill(0xff)), Some(32), "value length");
        assert_eq!(offset(&|b| b.truncate(10)), Some(0), "header");
    }

    #[test]
    fn a_value_that_is_put_keeps_the_room_that_it_had() {
        let mut all = Parameters::default();
        let text = |text: &str| Value::Text(text.into());
        all.put("TITLE", text("Moth"), 128);
        all.put("TITLE", text("Moth Parade"), 4);
        assert_eq!((all.entries.len(), all.rooms["TITLE"], all.text("TITLE")), (1, 128, Some("Moth Parade")));
    }

    #[test]
    fn versions_are_two_digits_twice() {
        let version = |version: &str| {
            let entries = vec![("VERSION".into(), Value::Text(version.into()))];
            Parameters { entries, ..Parameters::default() }.version()
        };
        assert_eq!((version("01.00"), version("02.10")), (Some(0x100), Some(0x210)));
        assert_eq!(["1.00", "01", "0a.00", "01.000", ""].map(version), [None; 5]);
        assert_eq!(Parameters::default().version(), None);
    }

    proptest! {
        #[test]
        fn any_bytes_are_parameters_or_an_error(mut bytes in proptest::collection::vec(any::<u8>(), 0..400), magic in any::<bool>()) {
            if magic && bytes.len() > 20 {
                bytes[..4].copy_from_slice(MAGIC);
                bytes[17..20].fill(0);
            }
            let _ = Parameters::parse(&bytes);
        }

        #[test]
        fn what_was_composed_is_read(
            texts in proptest::collection::btree_map("[A-Z_]{1,12}", "[^\\x00]{0,20}", 0..12),
            others in proptest::collection::btree_map("[a-z]{1,6}", (any::<u16>(), proptest::collection::vec(any::<u8>(), 0..9)), 0..4),
            room in 0u32..64,
        ) {
            let mut entries: Vec<_> = texts.into_iter().map(|(n, t)| (n, Value::Text(t))).collect();
            entries.extend(others.into_iter().map(|(n, (kind, bytes))| (n, Value::Other(kind | 0x1000, bytes))));
            let rooms = entries.iter().map(|(n, _)| (n.clone(), room * 4)).collect();
            let parameters = Parameters { entries, rooms };
            let bytes = parameters.compose();
            let read = Parameters::parse(&bytes).unwrap();
            prop_assert_eq!(&read.entries, &parameters.entries);
            // Whatever is in it, it is written back as it was.
            prop_assert_eq!(read.compose(), bytes);
        }
    }
}
