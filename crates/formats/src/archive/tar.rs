//! tar (POSIX ustar and pax, GNU): files one after the other, read in place. Headers by the `tar` crate. docs/formats/tar.md.

use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::opened::Opened;
use decanter_core::role::Role;
use decanter_core::source::{Source, SourceRef, read_vec};
use decanter_core::tree::{File, Kind, Node, Tree};
use decanter_core::{Error, Result, native, watch};
use std::collections::HashMap;
use tar::{EntryType, Header};

/// Id of the format.
pub const ID: &str = "tar";
/// Bytes of a header; contents are filled up to a multiple of it.
const BLOCK: u64 = 512;
/// Entries of an archive.
const MOST_ENTRIES: usize = 1 << 20;
/// Bytes of a long name, or of pax records.
const MOST_EXTRA: u64 = 1 << 20;

/// The format.
pub struct Tar;

impl Format for Tar {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "tar archive"
    }

    fn role(&self) -> Role {
        Role::Archive
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["tar"]
    }

    fn reads(&self) -> &'static str {
        "ustar, pax and GNU, read in place; no sparse files"
    }

    fn marks(&self) -> &'static [Mark] {
        const { &[Mark { at: 257, bytes: b"ustar" }] }
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        if source.len() < BLOCK {
            return Ok(None);
        }
        let mut raw = [0; BLOCK as usize];
        source.read_at(0, &mut raw)?;
        Ok(is_whole(Header::from_byte_slice(&raw)).then_some(90))
    }

    fn open(&self, source: SourceRef, _: &Opener<'_>) -> Result<Opened> {
        let mut opened = Opened::new(ID, self.name());
        let mut walk = Walk {
            source,
            at: 0,
            general: Extra::default(),
            tree: Tree::default(),
            left_out: 0,
            files: HashMap::new(),
        };
        loop {
            match walk.step(&mut opened) {
                Ok(true) => {}
                Ok(false) => break,
                // What stands before it is as good as ever.
                Err(e @ Error::Malformed { .. }) if !walk.tree.nodes.is_empty() => {
                    opened.damage(format!("{e}; what follows there is not known"));
                    break;
                }
                Err(e) => return Err(e),
            }
        }
        if walk.left_out > 0 {
            opened.notice(format!("{} devices and pipes are left out", walk.left_out));
        }
        opened.holds.tree = Some(walk.tree);
        Ok(opened)
    }
}

/// What records before a header say instead of it.
#[derive(Debug, Default, Clone)]
struct Extra {
    path: Option<String>,
    link: Option<String>,
    size: Option<u64>,
    modified: Option<i64>,
}

/// A walk from header to header.
struct Walk {
    source: SourceRef,
    at: u64,
    /// What holds for all that follow.
    general: Extra,
    tree: Tree,
    left_out: usize,
    /// Where a file of this path stands, for links to it.
    files: HashMap<String, File>,
}

impl Walk {
    /// Takes the next entry; false at the end.
    fn step(&mut self, opened: &mut Opened) -> Result<bool> {
        let mut own = Extra::default();
        loop {
            watch::going_on()?;
            let Some((header, at)) = self.header()? else { return Ok(false) };
            let kind = header.entry_type();
            let size = own.size.filter(|_| !is_extra(kind)).or(self.general.size.filter(|_| !is_extra(kind)));
            let size = match size {
                Some(size) => size,
                None => header.entry_size().map_err(|_| malformed("the length of an entry is no number", at + 124))?,
            };
            let content = at + BLOCK;
            let end = content.checked_add(size).filter(|_| size <= 1 << 60);
            let end = end.ok_or_else(|| malformed("the length of an entry is impossible", at + 124))?;
            let has_content = !matches!(
                kind,
                EntryType::Link
                    | EntryType::Symlink
                    | EntryType::Directory
                    | EntryType::Char
                    | EntryType::Block
                    | EntryType::Fifo
            );
            self.at = if has_content { end.next_multiple_of(BLOCK) } else { content };
            match kind {
                EntryType::XHeader => own.records(&self.extra(content, size)?, content)?,
                EntryType::XGlobalHeader => self.general.records(&self.extra(content, size)?, content)?,
                EntryType::GNULongName => own.path = Some(text(&self.extra(content, size)?)),
                EntryType::GNULongLink => own.link = Some(text(&self.extra(content, size)?)),
                _ => {
                    self.entry(&header, own, (content, size), opened)?;
                    return Ok(true);
                }
            }
        }
    }

    /// The next header and where it stands; `None` at the end of the archive.
    fn header(&self) -> Result<Option<(Header, u64)>> {
        let at = self.at;
        if at >= self.source.len() {
            return Ok(None);
        }
        if self.source.len() - at < BLOCK {
            return Err(malformed("the file ends within a header", at));
        }
        let mut header = Header::new_old();
        self.source.read_at(at, header.as_mut_bytes())?;
        if header.as_bytes().iter().all(|byte| *byte == 0) {
            return Ok(None);
        }
        match is_whole(&header) {
            true => Ok(Some((header, at))),
            false => Err(malformed("the checksum of a header does not hold", at + 148)),
        }
    }

    fn extra(&self, at: u64, size: u64) -> Result<Vec<u8>> {
        read_vec(self.source.as_ref(), at, size, "a long name or pax records", MOST_EXTRA)
    }

    fn entry(&mut self, header: &Header, own: Extra, (at, size): (u64, u64), opened: &mut Opened) -> Result<()> {
        if self.tree.nodes.len() >= MOST_ENTRIES {
            let limit = MOST_ENTRIES as u64;
            return Err(Error::Limit { what: "entries of an archive", asked: limit + 1, limit });
        }
        let path = own.path.or(self.general.path.clone()).unwrap_or_else(|| native::of_bytes(&header.path_bytes()));
        let is_folder_name = path.ends_with('/');
        let path = path.trim_matches('/').trim_start_matches("./").to_owned();
        let link = own.link.or(self.general.link.clone());
        let link = || link.unwrap_or_else(|| native::of_bytes(&header.link_name_bytes().unwrap_or_default()));
        let modified = own.modified.or(self.general.modified).or_else(|| i64::try_from(header.mtime().ok()?).ok());
        let kind = match header.entry_type() {
            EntryType::Directory => Kind::Folder,
            EntryType::Symlink => Kind::Link(link()),
            EntryType::Link => {
                let target = link();
                let known = self.files.get(target.trim_start_matches("./").trim_matches('/')).cloned();
                Kind::File(known.unwrap_or_else(|| {
                    File::broken(0, format!("it is a link to {target}, which does not come before it"))
                }))
            }
            EntryType::GNUSparse => {
                Kind::File(File::broken(size, "it is a sparse file as GNU tar stores them, which is not supported"))
            }
            EntryType::Char | EntryType::Block | EntryType::Fifo => {
                self.left_out += 1;
                return Ok(());
            }
            // Old archives mark a folder with a slash only.
            _ if is_folder_name && size == 0 => Kind::Folder,
            _ => {
                // Its place is one of the archive, and of no medium that has sectors.
                let file = File { spans: Vec::new(), ..File::from_spans(&self.source, vec![at..at + size])? };
                if at + size > self.source.len() {
                    opened.damage(format!("the archive is cut: {path} reaches past its end"));
                }
                self.files.insert(path.clone(), file.clone());
                Kind::File(file)
            }
        };
        if !path.is_empty() && path != "." {
            self.tree.nodes.push(Node::new(path, kind, modified));
        }
        Ok(())
    }
}

impl Extra {
    /// Takes pax records over.
    fn records(&mut self, bytes: &[u8], at: u64) -> Result<()> {
        let mut rest = bytes;
        while !rest.is_empty() {
            let offset = at + (bytes.len() - rest.len()) as u64;
            let wrong = || malformed("a pax record is not as long as it says", offset);
            let space = rest.iter().position(|byte| *byte == b' ').ok_or_else(wrong)?;
            let len: usize = std::str::from_utf8(&rest[..space]).ok().and_then(|t| t.parse().ok()).ok_or_else(wrong)?;
            let record = rest.get(space + 1..len).and_then(|r| r.strip_suffix(b"\n")).ok_or_else(wrong)?;
            let equals = record.iter().position(|byte| *byte == b'=').ok_or_else(wrong)?;
            let value = &record[equals + 1..];
            let number = || -> Result<&str> {
                std::str::from_utf8(value).map_err(|_| malformed("a number in a pax record is none", offset))
            };
            match &record[..equals] {
                b"path" => self.path = Some(native::of_bytes(value)),
                b"linkpath" => self.link = Some(native::of_bytes(value)),
                b"size" => {
                    let size =
                        number()?.parse().map_err(|_| malformed("a length in a pax record is no number", offset))?;
                    self.size = Some(size);
                }
                // Parts of a second are not kept.
                b"mtime" => self.modified = number()?.split('.').next().and_then(|whole| whole.parse().ok()),
                _ => {}
            }
            rest = &rest[len..];
        }
        Ok(())
    }
}

fn is_extra(kind: EntryType) -> bool {
    matches!(kind, EntryType::XHeader | EntryType::XGlobalHeader | EntryType::GNULongName | EntryType::GNULongLink)
}

/// Whether a header's checksum holds: the sum of its bytes, those of the checksum itself counted as spaces.
fn is_whole(header: &Header) -> bool {
    let bytes = header.as_bytes();
    let sum: u32 = bytes[..148].iter().chain(&bytes[156..]).map(|byte| u32::from(*byte)).sum();
    header.cksum().is_ok_and(|stored| stored == sum + 8 * u32::from(b' '))
}

/// A name up to the zero byte that ends it.
fn text(bytes: &[u8]) -> String {
    native::of_bytes(bytes.split(|byte| *byte == 0).next().unwrap_or_default())
}

fn malformed(what: &'static str, offset: u64) -> Error {
    Error::malformed(ID, what, offset)
}
