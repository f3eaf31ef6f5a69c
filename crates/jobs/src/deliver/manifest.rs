//! The list of what was put on a card: lines as checksum programs write and read them, so that it can be checked without us.

use decanter_core::digest::hex;
use decanter_core::source::{FileSource, Source, read_vec};
use decanter_core::{Error, Guard, Result, native};
use decanter_formats::record::sums;
use std::collections::BTreeMap;
use std::path::Path;

/// What it is called, at the top of the card.
pub const NAME: &str = "decanter delivery.sha1";
/// A list of a million files.
const MOST: u64 = 256 << 20;
const SHA1: usize = 20;
const HEAD: &str =
    "# What decanter deliver has put here. \"decanter deliver --check DIR\" compares it; so does \"sha1sum -c\".\n";

/// Paths below the card, with `/`, and the SHA-1 of each.
#[derive(Debug, Default, Clone, PartialEq, Eq)]
pub(crate) struct Manifest(pub(crate) BTreeMap<String, [u8; SHA1]>);

impl Manifest {
    /// The list of a card; empty where there is none.
    ///
    /// # Errors
    /// When it cannot be read, or a line is none of such a list.
    pub(crate) fn read(card: &Path) -> Result<Option<Self>> {
        let path = card.join(NAME);
        if std::fs::symlink_metadata(&path).is_err() {
            return Ok(None);
        }
        let source = FileSource::open(&path, &Guard::default())?;
        let bytes = read_vec(&source, 0, source.len(), "a list of what was delivered", MOST)?;
        Self::parse(&String::from_utf8_lossy(&bytes)).map(Some).map_err(|line| {
            let why = format!("line {line} of \"{}\" is no digest and name", native::text(&path));
            Error::Unreadable { why }
        })
    }

    fn parse(text: &str) -> std::result::Result<Self, usize> {
        let mut list = Self::default();
        for (number, line) in (1usize..).zip(text.lines()) {
            if line.is_empty() || line.starts_with('#') {
                continue;
            }
            let (name, _, digest) = sums::parse(line).ok_or(number)?;
            let digest = digest.try_into().map_err(|_| number)?;
            list.0.insert(name, digest);
        }
        Ok(list)
    }

    /// As it is written.
    pub(crate) fn text(&self) -> String {
        let mut text = HEAD.to_owned();
        for (path, digest) in &self.0 {
            let (mark, path) = sums::escaped(path);
            text.push_str(&format!("{mark}{}  {path}\n", hex(digest)));
        }
        text
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn lines_that_are_none_have_their_number() {
        assert_eq!(Manifest::parse("# a\n\nnonsense\n"), Err(3));
        assert_eq!(Manifest::parse(&format!("{}  \n", "0".repeat(40))), Err(1));
        assert_eq!(Manifest::parse(&format!("{}  x\n", "0".repeat(38))), Err(1));
        assert!(Manifest::parse(&format!("{}  a b\n", "0".repeat(40))).unwrap().0.contains_key("a b"));
    }

    proptest! {
        #[test]
        fn what_is_written_is_read(paths in proptest::collection::btree_map("[a-z \\\\\n.]{1,12}", any::<[u8; 20]>(), 0..6)) {
            let list = Manifest(paths);
            prop_assert_eq!(Manifest::parse(&list.text()), Ok(list));
        }
    }
}
