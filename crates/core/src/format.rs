//! A format is one way of laying bytes out: it can be recognised, opened, and perhaps composed.

use crate::blueprint::Blueprint;
use crate::error::{Error, Result};
use crate::head::{Head, Mark};
use crate::keyring::Keyring;
use crate::opened::Opened;
use crate::role::Role;
use crate::source::{Source, SourceRef};
use crate::tree::Tree;
use crate::watch::Watch;

/// How deep containers may stand in each other.
pub const MOST_DEPTH: usize = 8;

/// One way of laying bytes out.
pub trait Format: Send + Sync {
    /// Stable name for options, JSON and tests.
    fn id(&self) -> &'static str;

    /// What people call it.
    fn name(&self) -> &'static str;

    /// Usual file extensions, the first one for new files. They are never taken as proof of anything.
    fn extensions(&self) -> &'static [&'static str];

    /// One line on what is read, for the list of formats.
    fn reads(&self) -> &'static str;

    /// What it is for.
    fn role(&self) -> Role;

    /// Bytes that a file needs at least to be known as this format, where its name says that it should be.
    fn least_len(&self) -> u64 {
        0
    }

    /// Marks, one of which stands in every source of this format: without it nothing more is asked. None, if there are no
    /// such marks.
    fn marks(&self) -> &'static [Mark] {
        &[]
    }

    /// How sure it is that a source with one of its marks is of this format, from 1 (hardly) to 100; `None` if it is not.
    /// Looks at declared offsets only; what begins within 64 KiB is read once for all formats.
    ///
    /// # Errors
    /// Only what reading fails with. Bytes that do not fit are `None`.
    fn score(&self, head: &Head<'_>) -> Result<Option<u8>>;

    /// Parses the headers.
    ///
    /// # Errors
    /// When nothing useful can be said of the source. Damage that leaves the rest readable becomes notices
    /// and broken nodes instead.
    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened>;

    /// Whether a source was opened as this format.
    fn is_of(&self, opened: &Opened) -> bool {
        opened.identity.format == self.id()
    }

    /// Lays a tree out in this format, without writing anything.
    ///
    /// # Errors
    /// [`Error::Unsupported`] when this format is only read, or cannot hold the tree.
    fn compose(&self, _tree: &Tree, _label: &str) -> Result<Blueprint> {
        Err(Error::unsupported(self.id(), "making a new one"))
    }
}

/// What opens sources, and all that is known around one: the formats, the user's keys, what the source is called, what lies
/// beside it, who watches, and how deep it stands in other containers.
#[derive(Clone, Copy)]
pub struct Opener<'a> {
    registry: &'a Registry,
    keys: &'a Keyring,
    names: &'a [String],
    watch: &'a dyn Watch,
    depth: usize,
    beside: &'a dyn Beside,
    companions: &'a [SourceRef],
    is_unchecked: bool,
}

/// The files next to a source, for formats that name others: cue sheets, split sets.
pub trait Beside: Sync {
    /// The file called `name` in the same folder: spelled exactly so, or else the only one that differs in case
    /// alone; with the name that it really has.
    ///
    /// # Errors
    /// When it is there but cannot be opened.
    fn find(&self, name: &str) -> Result<Option<(String, SourceRef)>>;

    /// The folder called `name` beside it, whatever its case, with the name that it really has and what is in it.
    ///
    /// # Errors
    /// When it is there but cannot be read.
    fn folder(&self, _name: &str) -> Result<Option<(String, Tree)>> {
        Ok(None)
    }

    /// The names of the files that end in `.extension`, whatever its case, sorted.
    fn named(&self, _extension: &str) -> Vec<String> {
        Vec::new()
    }
}

/// Nothing is next to it.
impl Beside for () {
    fn find(&self, _name: &str) -> Result<Option<(String, SourceRef)>> {
        Ok(None)
    }
}

impl<'a> Opener<'a> {
    /// One for a source that stands alone and has no name: nothing is beside it, and nobody watches.
    pub fn new(registry: &'a Registry, keys: &'a Keyring) -> Self {
        Self { registry, keys, names: &[], watch: &(), depth: 0, beside: &(), companions: &[], is_unchecked: false }
    }

    /// With what the source is called, without extension: keys may be filed under it.
    pub fn with_names(self, names: &'a [String]) -> Self {
        Self { names, ..self }
    }

    /// With somebody who is told of slow work.
    pub fn with_watch(self, watch: &'a dyn Watch) -> Self {
        Self { watch, ..self }
    }

    /// With files next to the source.
    pub fn with_beside(self, beside: &'a dyn Beside) -> Self {
        Self { beside, ..self }
    }

    /// With sources that go with this one: the bases of updates.
    pub fn with_companions(self, companions: &'a [SourceRef]) -> Self {
        Self { companions, ..self }
    }

    /// With sources whose bytes are handed on without holding them against the digests that they carry.
    pub fn unchecked(self, is_unchecked: bool) -> Self {
        Self { is_unchecked, ..self }
    }

    /// With so many containers around the source.
    pub fn at_depth(self, depth: usize) -> Self {
        Self { depth, ..self }
    }

    /// The opener for what is inside: its neighbours are others.
    ///
    /// # Errors
    /// [`Error::Limit`] when containers stand too deep in each other.
    pub fn inside(&self) -> Result<Self> {
        let depth = self.depth + 1;
        if depth > MOST_DEPTH {
            let (asked, limit) = (depth as u64, MOST_DEPTH as u64);
            return Err(Error::Limit { what: "containers in containers", asked, limit });
        }
        Ok(Self { depth, beside: &(), ..*self })
    }

    /// All formats.
    pub fn registry(&self) -> &'a Registry {
        self.registry
    }

    /// The user's keys.
    pub fn keys(&self) -> &'a Keyring {
        self.keys
    }

    /// What the source is called, the innermost name first.
    pub fn names(&self) -> &'a [String] {
        self.names
    }

    /// Who is told of slow work.
    pub fn watch(&self) -> &'a dyn Watch {
        self.watch
    }

    /// The files next to the source.
    pub fn beside(&self) -> &'a dyn Beside {
        self.beside
    }

    /// Sources that go with this one.
    pub fn companions(&self) -> &'a [SourceRef] {
        self.companions
    }

    /// Whether nobody wants digests to be held against what is read.
    pub fn is_unchecked(&self) -> bool {
        self.is_unchecked
    }

    /// Opens `source` as the format that fits it best.
    ///
    /// # Errors
    /// [`Error::NotUnderstood`] when none fits, else what opening fails with.
    pub fn open(&self, source: SourceRef) -> Result<Opened> {
        self.open_among(source, &|_| true)
    }

    /// Opens `source` as one format.
    ///
    /// # Errors
    /// What opening fails with.
    pub fn open_as(&self, format: &dyn Format, source: SourceRef) -> Result<Opened> {
        let mut opened = format.open(source, self)?;
        opened.identity.role = format.role();
        Ok(opened)
    }

    /// The same among the formats that `takes` takes.
    ///
    /// # Errors
    /// As [`Opener::open`].
    pub fn open_among(&self, source: SourceRef, takes: &dyn Fn(&dyn Format) -> bool) -> Result<Opened> {
        let head = Head::new(source.as_ref()).with_keys(self.keys).with_names(self.names);
        match self.registry.detect_among(&head, takes)? {
            Some(format) => self.open_as(format, source),
            None => Err(Error::NotUnderstood { seems: seems(source.as_ref())? }),
        }
    }
}

/// All formats that are known.
pub struct Registry {
    formats: &'static [&'static dyn Format],
}

impl Registry {
    /// One of these formats.
    pub const fn new(formats: &'static [&'static dyn Format]) -> Self {
        Self { formats }
    }

    /// The formats, in the order in which they are listed.
    pub fn formats(&self) -> &'static [&'static dyn Format] {
        self.formats
    }

    /// The format with this id.
    pub fn get(&self, id: &str) -> Option<&'static dyn Format> {
        self.formats.iter().copied().find(|f| f.id() == id)
    }

    /// The format that is surest of what is looked at.
    ///
    /// # Errors
    /// What reading fails with.
    pub fn detect(&self, head: &Head<'_>) -> Result<Option<&'static dyn Format>> {
        self.detect_among(head, &|_| true)
    }

    /// The same among those that `takes` takes. Every one of them is asked that finds its mark.
    ///
    /// # Errors
    /// What reading fails with.
    pub fn detect_among(
        &self,
        head: &Head<'_>,
        takes: &dyn Fn(&dyn Format) -> bool,
    ) -> Result<Option<&'static dyn Format>> {
        let mut best: Option<(u8, &'static dyn Format)> = None;
        let mut failed = None;
        for format in self.formats.iter().copied().filter(|f| takes(*f)) {
            let score = match likelihood(format, head) {
                // What cannot be read without a key, or only by unpacking everything, tells nothing: that is no failure
                // of looking.
                Err(Error::Key(_) | Error::Limit { .. }) => None,
                Err(e @ (Error::Cancelled | Error::Io { .. })) => return Err(e),
                // Damage hides what is behind it, not what another format sees before it.
                Err(e) => {
                    failed = failed.or(Some(e));
                    None
                }
                Ok(score) => score,
            };
            if let Some(score) = score.filter(|&s| best.is_none_or(|(most, _)| s > most)) {
                best = Some((score, format));
            }
        }
        match (best, failed) {
            (Some((_, format)), _) => Ok(Some(format)),
            (None, Some(e)) => Err(e),
            (None, None) => Ok(None),
        }
    }
}

/// How sure a format is of what is looked at, if that has one of its marks.
///
/// # Errors
/// What reading fails with.
pub fn likelihood(format: &dyn Format, head: &Head<'_>) -> Result<Option<u8>> {
    match head.has_one_of(format.marks())? {
        true => format.score(head),
        false => Ok(None),
    }
}

/// What bytes of no known format look like, in words.
fn seems(source: &dyn Source) -> Result<String> {
    const KNOWN: [(&[u8], &str); 12] = [
        (b"\x89PNG\r\n\x1a\n", "it seems to be a PNG picture"),
        (b"\xff\xd8\xff", "it seems to be a JPEG picture"),
        (b"\x1f\x8b", "it seems to be a gzip file"),
        (b"7z\xbc\xaf\x27\x1c", "it seems to be a 7z archive"),
        (b"Rar!\x1a\x07", "it seems to be a RAR archive"),
        (b"\xfd7zXZ\0", "it seems to be an xz file"),
        (b"\x28\xb5\x2f\xfd", "it seems to be a zstd file"),
        (b"BZh", "it seems to be a bzip2 file"),
        (b"%PDF", "it seems to be a PDF document"),
        (b"\x7fELF", "it seems to be a program for Unix systems"),
        (b"MZ", "it seems to be a program for Windows"),
        (b"\0PSF", "it seems to be a PARAM.SFO parameter file cut short"),
    ];
    if source.is_empty() {
        return Ok("it is empty".into());
    }
    let mut head = vec![0; source.len().min(4096) as usize];
    source.read_at(0, &mut head)?;
    if let Some((_, words)) = KNOWN.iter().find(|(magic, _)| head.starts_with(magic)) {
        return Ok((*words).into());
    }
    let text = std::str::from_utf8(&head).is_ok_and(|t| !t.chars().any(|c| c.is_control() && !c.is_whitespace()));
    Ok(if head.iter().all(|&b| b == head[0]) {
        format!("it begins with nothing but bytes of value {:#04x}", head[0])
    } else if text {
        "it seems to be a text".into()
    } else if looks_random(&head) {
        "it looks like noise: encrypted as a whole, compressed, or damaged at its beginning".into()
    } else {
        "its beginning fits none of the known formats".into()
    })
}

/// True when the byte values of `bytes` are spread as evenly as those of ciphertext are.
///
/// Pearson's chi-squared statistic over the 256 values has mean 255 and standard deviation 22.6 for random
/// bytes; 400 lies more than six of those away. Needs about 1,024 bytes to mean anything.
pub fn looks_random(bytes: &[u8]) -> bool {
    if bytes.len() < 1024 {
        return false;
    }
    let mut counts = [0u32; 256];
    for &b in bytes {
        counts[usize::from(b)] += 1;
    }
    let mean = bytes.len() as f64 / 256.0;
    let chi: f64 = counts.iter().map(|&c| (f64::from(c) - mean).powi(2) / mean).sum();
    chi < 400.0
}
