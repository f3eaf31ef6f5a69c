//! The map beside an output: which sectors were read, and which are missing. docs/dump-map.md describes it.

use decanter_core::pour::Output;
use decanter_core::{Blueprint, Door, Error, Guard, Result, pour};
use serde::Serialize;
use std::fmt::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// First line of a map.
const MAGIC: &str = "# decanter map 1";

/// What is known of a sector.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum State {
    /// Not asked for yet.
    Untried,
    /// Asked for, without an answer.
    Missing,
    /// Read from the drive.
    Read,
    /// Taken from another copy.
    Filled,
    /// Zeros, as the plan says.
    Blank,
}

impl State {
    const ALL: [Self; 5] = [Self::Untried, Self::Missing, Self::Read, Self::Filled, Self::Blank];

    fn word(self) -> &'static str {
        match self {
            Self::Untried => "untried",
            Self::Missing => "missing",
            Self::Read => "read",
            Self::Filled => "filled",
            Self::Blank => "blank",
        }
    }

    /// Whether the output has bytes of the disc there.
    pub fn is_content(self) -> bool {
        matches!(self, Self::Read | Self::Filled)
    }

    /// Whether the output has what belongs there.
    pub fn is_there(self) -> bool {
        !matches!(self, Self::Untried | Self::Missing)
    }
}

/// A run of sectors in one state.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct Run {
    /// First sector.
    pub first: u64,
    /// Number of sectors.
    pub count: u64,
    /// Their state.
    pub state: State,
}

/// The states of all sectors.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Map {
    /// Sectors of the whole output.
    pub sectors: u64,
    /// Bytes of a sector.
    pub sector_len: u64,
    /// CRC-32 of the sectors by which the disc is known again, once they were read.
    pub disc: Option<u32>,
    /// Passes that were finished.
    pub passes: u32,
    runs: Vec<Run>,
}

impl Map {
    /// One of which nothing was tried.
    pub fn new(sectors: u64, sector_len: u64) -> Self {
        let runs =
            if sectors == 0 { Vec::new() } else { vec![Run { first: 0, count: sectors, state: State::Untried }] };
        Self { sectors, sector_len, disc: None, passes: 0, runs }
    }

    /// Where the map of an output is.
    pub fn path_of(target: &Path) -> PathBuf {
        let mut name = target.as_os_str().to_owned();
        name.push(".map");
        PathBuf::from(name)
    }

    /// The runs, in order, without gaps.
    pub fn runs(&self) -> &[Run] {
        &self.runs
    }

    /// The runs in this state.
    pub fn in_state(&self, state: State) -> Vec<Run> {
        self.runs.iter().filter(|r| r.state == state).copied().collect()
    }

    /// The runs of which the output has nothing.
    pub fn gaps(&self) -> Vec<Run> {
        self.runs.iter().filter(|r| !r.state.is_there()).copied().collect()
    }

    /// Sectors of which the output has nothing.
    pub fn missing(&self) -> u64 {
        self.gaps().iter().map(|r| r.count).sum()
    }

    /// The state of one sector.
    pub fn state_of(&self, sector: u64) -> State {
        let index = self.runs.partition_point(|r| r.first + r.count <= sector);
        self.runs.get(index).map_or(State::Untried, |r| r.state)
    }

    /// Sets the state of some sectors.
    pub fn set(&mut self, first: u64, count: u64, state: State) {
        if count == 0 {
            return;
        }
        let end = first + count;
        let from = self.runs.partition_point(|r| r.first + r.count <= first);
        let to = self.runs.partition_point(|r| r.first < end);
        let mut new = Vec::with_capacity(3);
        if let Some(left) = self.runs.get(from).filter(|r| r.first < first) {
            new.push(Run { count: first - left.first, ..*left });
        }
        new.push(Run { first, count, state });
        if let Some(right) = self.runs[from..to].last().filter(|r| r.first + r.count > end) {
            new.push(Run { first: end, count: right.first + right.count - end, state: right.state });
        }
        self.runs.splice(from..to, new);
        // Neighbours of one state are one run.
        let mut index = from.saturating_sub(1);
        while index + 1 < self.runs.len() && index <= from + 3 {
            if self.runs[index].state == self.runs[index + 1].state {
                self.runs[index].count += self.runs[index + 1].count;
                self.runs.remove(index + 1);
            } else {
                index += 1;
            }
        }
    }

    /// The map as its text.
    pub fn text(&self) -> String {
        let mut text =
            format!("{MAGIC}\nsectors {}\nsector-bytes {}\npasses {}\n", self.sectors, self.sector_len, self.passes);
        if let Some(disc) = self.disc {
            let _ = writeln!(text, "disc {disc:08x}");
        }
        text.push_str("# first last state\n");
        for run in &self.runs {
            let _ = writeln!(text, "{} {} {}", run.first, run.first + run.count - 1, run.state.word());
        }
        text
    }

    /// Reads a map.
    ///
    /// # Errors
    /// [`Error::Malformed`] with the line.
    pub fn parse(text: &str) -> Result<Self> {
        let mut lines = text.lines().enumerate();
        let bad = |line: usize, what: &str| Error::malformed("map", format!("line {}: {what}", line + 1), 0);
        if lines.next().is_none_or(|(_, l)| l.trim() != MAGIC) {
            return Err(bad(0, "it does not begin as a map of a dump does"));
        }
        let mut map = Self { sectors: 0, sector_len: 0, disc: None, passes: 0, runs: Vec::new() };
        let mut next = 0u64;
        for (number, line) in lines {
            let words: Vec<&str> = line.split_whitespace().collect();
            let value = |text: &str| text.parse::<u64>().map_err(|_| bad(number, "no number"));
            match words.as_slice() {
                [] => {}
                [first, ..] if first.starts_with('#') => {}
                ["sectors", n] => map.sectors = value(n)?,
                ["sector-bytes", n] => map.sector_len = value(n)?,
                ["passes", n] => map.passes = value(n)? as u32,
                ["disc", crc] => map.disc = Some(u32::from_str_radix(crc, 16).map_err(|_| bad(number, "no CRC-32"))?),
                [first, last, state] => {
                    let (first, last) = (value(first)?, value(last)?);
                    let state = State::ALL.into_iter().find(|s| s.word() == *state);
                    let state = state.ok_or_else(|| bad(number, "an unknown state"))?;
                    if first != next || last < first || last >= map.sectors {
                        return Err(bad(number, "the ranges have to follow each other, within the disc"));
                    }
                    next = last + 1;
                    map.runs.push(Run { first, count: next - first, state });
                }
                _ => return Err(bad(number, "it cannot be understood")),
            }
        }
        if next != map.sectors || map.sector_len == 0 {
            return Err(bad(text.lines().count().saturating_sub(1), "the ranges do not reach the end of the disc"));
        }
        Ok(map)
    }

    /// Reads the map of an output, if there is one.
    ///
    /// # Errors
    /// When it cannot be read or understood.
    pub fn load(path: &Path) -> Result<Option<Self>> {
        match std::fs::read(path) {
            Ok(bytes) => Self::parse(&String::from_utf8_lossy(&bytes)).map(Some),
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(None),
            Err(e) => Err(Error::io("read", path, e)),
        }
    }

    /// The map beside an image, whether that is finished or not; nothing if what is there is no map of a dump.
    ///
    /// # Errors
    /// When it is one, but broken.
    pub fn beside(image: &Path) -> Result<Option<Self>> {
        let target = match image.extension().is_some_and(|e| e == "incomplete") {
            true => image.with_extension(""),
            false => image.to_owned(),
        };
        let path = Self::path_of(&target);
        let mut begins = [0; MAGIC.len()];
        match std::fs::File::open(&path).and_then(|mut f| std::io::Read::read_exact(&mut f, &mut begins)) {
            Ok(()) if begins == *MAGIC.as_bytes() => Self::load(&path),
            // Whatever else is called so, or cannot be read, is none of ours.
            _ => Ok(None),
        }
    }

    /// What the map says of bytes that a file of `len` bytes does not have was never read.
    pub fn cut_to(&mut self, len: u64) {
        let there = (len / self.sector_len).min(self.sectors);
        for run in self.runs.clone().into_iter().filter(|r| r.state.is_content() && r.first + r.count > there) {
            let first = run.first.max(there);
            self.set(first, run.first + run.count - first, State::Untried);
        }
    }

    /// Saves it in one step: a crash leaves the old map or the new one.
    ///
    /// # Errors
    /// [`Error::Io`].
    pub fn save(&self, path: &Path) -> Result<()> {
        let text = decanter_core::source::Bytes(self.text().into_bytes());
        let door = Door { guard: &Guard::default(), replace: true };
        pour::pour(Output::new(&Blueprint::of(Arc::new(text)), path), door, &()).map(|_| ())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_map_is_what_was_set_last(sets in proptest::collection::vec((0u64..200, 1u64..60, 0usize..5), 0..40)) {
            let mut map = Map::new(256, 2048);
            let mut plain = [State::Untried; 256];
            for (first, count, state) in sets {
                let (count, state) = (count.min(256 - first), State::ALL[state]);
                map.set(first, count, state);
                plain[first as usize..(first + count) as usize].fill(state);
            }
            for (sector, state) in plain.iter().enumerate() {
                prop_assert_eq!(map.state_of(sector as u64), *state);
            }
            prop_assert!(map.runs().windows(2).all(|w| w[0].state != w[1].state && w[0].first + w[0].count == w[1].first));
            prop_assert_eq!(Map::parse(&map.text()).ok(), Some(map));
        }

        #[test]
        fn no_text_can_panic(text in "(# decanter map 1\n)?(sectors|read|missing|[0-9]{1,20}| |\n|.){0,60}") {
            let _ = Map::parse(&text);
        }
    }
}
