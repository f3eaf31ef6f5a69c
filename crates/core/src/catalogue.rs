//! A catalogue: names, sizes and digests of many files, as community databases and checksum lists have them.

use crate::digest::{Algorithm, Digest};

/// Many files as they should be.
#[derive(Default)]
pub struct Catalogue {
    /// What it is called.
    pub name: String,
    /// Its version or date, where it has one.
    pub version: String,
    /// True for a list of the files of one folder, all of which should be there; false for a database of which
    /// nobody has everything.
    pub is_list: bool,
    /// The first value that is none, with its line: a digest of an impossible length, a size below nothing, a name that leads
    /// out of its folder.
    pub first_odd: Option<String>,
    games: Vec<Game>,
    entries: Vec<Entry>,
    /// First bytes of the digests of each algorithm, with the entry's number; sorted.
    by_digest: [Vec<(u64, u32)>; 4],
    /// Hashes of the names, with the entry's number; sorted.
    by_name: Vec<(u64, u32)>,
    /// Lengths; sorted.
    lens: Vec<u64>,
    lacks_lens: bool,
}

/// A set of files that belong together.
#[derive(Debug, Clone, Default)]
pub struct Game {
    /// Its name.
    pub name: String,
    /// The game it is a variant of.
    pub parent: Option<String>,
    /// Numbers of its entries.
    pub entries: std::ops::Range<usize>,
}

/// How far an entry can be trusted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Status {
    /// Its digests are those of a good dump.
    #[default]
    Good,
    /// Its digests are those of a dump that is known to be bad.
    BadDump,
    /// Nobody has dumped it: it has no digests.
    NoDump,
}

/// One file as it should be.
#[derive(Debug, Clone, Default)]
pub struct Entry {
    /// Its name, or its path with `/`.
    pub name: Box<str>,
    /// Length in bytes, where known.
    pub len: Option<u64>,
    /// Its digests.
    pub sums: Sums,
    /// How far they can be trusted.
    pub status: Status,
    /// Number of its game.
    pub game: u32,
}

/// The digests of an entry, kept small: there may be hundreds of thousands.
#[derive(Debug, Clone, Default)]
pub struct Sums {
    crc32: Option<[u8; 4]>,
    md5: Option<[u8; 16]>,
    sha1: Option<[u8; 20]>,
    sha256: Option<Box<[u8; 32]>>,
}

impl Sums {
    /// Keeps a digest; false if it has the wrong length for its algorithm.
    pub fn set(&mut self, algorithm: Algorithm, bytes: &[u8]) -> bool {
        match algorithm {
            Algorithm::Crc32 => keep(&mut self.crc32, bytes),
            Algorithm::Md5 => keep(&mut self.md5, bytes),
            Algorithm::Sha1 => keep(&mut self.sha1, bytes),
            Algorithm::Sha256 => match bytes.try_into() {
                Ok(array) => {
                    self.sha256 = Some(Box::new(array));
                    true
                }
                Err(_) => false,
            },
            // Lists of dumps have none.
            Algorithm::Sha512 => false,
        }
    }

    /// The digest of this algorithm, if it is known.
    pub fn get(&self, algorithm: Algorithm) -> Option<&[u8]> {
        match algorithm {
            Algorithm::Crc32 => self.crc32.as_ref().map(<[u8; 4]>::as_slice),
            Algorithm::Md5 => self.md5.as_ref().map(<[u8; 16]>::as_slice),
            Algorithm::Sha1 => self.sha1.as_ref().map(<[u8; 20]>::as_slice),
            Algorithm::Sha256 => self.sha256.as_ref().map(|b| b.as_slice()),
            Algorithm::Sha512 => None,
        }
    }

    /// The strongest digest.
    pub fn strongest(&self) -> Option<Digest> {
        let known = |a: &Algorithm| Some(Digest { algorithm: *a, bytes: self.get(*a)?.to_vec() });
        Algorithm::ALL.iter().rev().find_map(known)
    }
}

fn keep<const N: usize>(slot: &mut Option<[u8; N]>, bytes: &[u8]) -> bool {
    *slot = bytes.try_into().ok();
    slot.is_some()
}

impl Entry {
    /// Whether it is an entry of this very content: the length does not contradict it, and the strongest digest that
    /// is known of both is the same.
    pub fn fits(&self, len: u64, found: &[Digest]) -> bool {
        if self.len.is_some_and(|own| own != len) {
            return false;
        }
        let both = found.iter().filter_map(|f| Some((f, self.sums.get(f.algorithm)?)));
        both.max_by_key(|(f, _)| f.algorithm).is_some_and(|(f, own)| f.bytes == own)
    }
}

impl Catalogue {
    /// Begins a game; the entries that follow are its own.
    pub fn begin_game(&mut self, name: String, parent: Option<String>) {
        let at = self.entries.len();
        self.games.push(Game { name, parent, entries: at..at });
    }

    /// Adds an entry to the game begun last.
    pub fn push(&mut self, mut entry: Entry) {
        if self.games.is_empty() {
            self.begin_game(String::new(), None);
        }
        entry.game = self.games.len() as u32 - 1;
        self.entries.push(entry);
        if let Some(game) = self.games.last_mut() {
            game.entries.end = self.entries.len();
        }
    }

    /// Makes it ready to be asked, once everything is in it.
    #[must_use]
    pub fn finish(mut self) -> Self {
        for (number, entry) in self.entries.iter().enumerate() {
            let number = number as u32;
            for algorithm in Algorithm::ALL {
                if let Some(bytes) = entry.sums.get(algorithm) {
                    self.by_digest[algorithm as usize].push((prefix(bytes), number));
                }
            }
            self.by_name.push((key(&entry.name), number));
            self.lens.extend(entry.len);
        }
        self.lacks_lens = self.entries.iter().any(|e| e.len.is_none() && e.status != Status::NoDump);
        self.by_digest.iter_mut().for_each(|list| list.sort_unstable());
        self.by_name.sort_unstable();
        self.lens.sort_unstable();
        self.lens.dedup();
        self
    }

    /// The games.
    pub fn games(&self) -> &[Game] {
        &self.games
    }

    /// All entries.
    pub fn entries(&self) -> &[Entry] {
        &self.entries
    }

    /// The algorithms that its entries use, weakest first.
    pub fn algorithms(&self) -> Vec<Algorithm> {
        Algorithm::ALL.into_iter().filter(|&a| !self.by_digest[a as usize].is_empty()).collect()
    }

    /// The algorithms that prove every entry by its strongest digest, weakest first.
    pub fn proofs(&self) -> Vec<Algorithm> {
        let mut used = [false; 4];
        for entry in &self.entries {
            let strongest = Algorithm::ALL.into_iter().rev().find(|&a| entry.sums.get(a).is_some());
            strongest.into_iter().for_each(|a| used[a as usize] = true);
        }
        Algorithm::ALL.into_iter().filter(|&a| used[a as usize]).collect()
    }

    /// Whether every entry says its length, so that a file of another length can be none of them.
    pub fn knows_all_lens(&self) -> bool {
        !self.lacks_lens
    }

    /// Entries with content of these digests.
    pub fn with_content(&self, len: u64, found: &[Digest]) -> Vec<usize> {
        let mut numbers = Vec::new();
        for digest in found.iter().filter(|d| Algorithm::ALL.contains(&d.algorithm)) {
            for number in equal(&self.by_digest[digest.algorithm as usize], prefix(&digest.bytes)) {
                if self.entries[number].fits(len, found) && !numbers.contains(&number) {
                    numbers.push(number);
                }
            }
        }
        numbers
    }

    /// Entries whose last name is that of `name`; case does not count.
    pub fn with_name(&self, name: &str) -> Vec<usize> {
        let wanted = last_name(name);
        let same = |n: &usize| last_name(&self.entries[*n].name).eq_ignore_ascii_case(wanted);
        equal(&self.by_name, key(name)).filter(same).collect()
    }

    /// Whether some entry has this length.
    pub fn has_len(&self, len: u64) -> bool {
        self.lens.binary_search(&len).is_ok()
    }
}

/// The numbers that stand beside `wanted` in a sorted list.
fn equal(list: &[(u64, u32)], wanted: u64) -> impl Iterator<Item = usize> {
    let from = list.partition_point(|(k, _)| *k < wanted);
    list[from..].iter().take_while(move |(k, _)| *k == wanted).map(|(_, n)| *n as usize)
}

/// The last name of a path, whichever way its slashes lean.
pub fn last_name(path: &str) -> &str {
    path.rsplit(['/', '\\']).next().unwrap_or(path)
}

/// What the last name of a path is found by: FNV-1a of it with ASCII letters in lower case.
pub fn key(name: &str) -> u64 {
    let step = |h: u64, b: u8| (h ^ u64::from(b.to_ascii_lowercase())).wrapping_mul(0x100_0000_01b3);
    last_name(name).bytes().fold(0xcbf2_9ce4_8422_2325, step)
}

/// The first eight bytes of a digest as a number, most significant first: enough to find it by.
pub fn prefix(bytes: &[u8]) -> u64 {
    bytes.iter().take(8).fold(0, |sum, &b| sum << 8 | u64::from(b))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::digest::of_bytes;

    #[test]
    fn content_is_found_by_its_strongest_known_digest() {
        let mut catalogue = Catalogue::default();
        for (name, text) in [("a.bin", "kelp"), ("b.bin", "fog"), ("dir/A.BIN", "kelp")] {
            let mut entry = Entry { name: name.into(), len: Some(text.len() as u64), ..Entry::default() };
            for algorithm in [Algorithm::Crc32, Algorithm::Sha1] {
                assert!(entry.sums.set(algorithm, &of_bytes(algorithm, text.as_bytes()).bytes));
            }
            catalogue.push(entry);
        }
        let catalogue = catalogue.finish();
        let sums = |text: &str| [Algorithm::Crc32, Algorithm::Sha1].map(|a| of_bytes(a, text.as_bytes()));
        assert_eq!(catalogue.with_content(4, &sums("kelp")), [0, 2]);
        assert!(catalogue.with_content(5, &sums("kelp")).is_empty());
        // A CRC-32 that fits by chance does not outweigh a SHA-1 that does not.
        let [crc, _] = sums("kelp");
        let [_, sha] = sums("fog!");
        assert!(catalogue.with_content(4, &[crc, sha]).is_empty());
        assert_eq!(catalogue.with_name("x/a.bin"), [0, 2]);
        assert_eq!(catalogue.algorithms(), [Algorithm::Crc32, Algorithm::Sha1]);
        assert!(catalogue.has_len(3) && !catalogue.has_len(5));
    }
}
