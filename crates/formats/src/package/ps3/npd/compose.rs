//! New NPD-wrapped files with a free licence, for content of one's own.

use super::coding::{Coding, MOST_CODE, entry_of};
use super::header::{CLOSED_KEYS, FREE, HASHED, HMAC, Head, Header, LEN, LONG, MAGIC};
use super::unlock::opener_of;
use crate::package::ps3::keys::{self, Role};
use crate::package::ps3::{cmac, content_id, mixed};
use decanter_core::digest::{Algorithm, of_bytes};
use decanter_core::error::KeyTrouble;
use decanter_core::keyring::{Key, Keyring};
use decanter_core::source::{Bytes, Source, SourceRef, check_range};
use decanter_core::threads::{self, Shares};
use decanter_core::view::Concat;
use decanter_core::watch::{self, Watch};
use decanter_core::{Error, Result};
use std::sync::{Arc, Mutex, PoisonError};
use zerocopy::{FromZeros, IntoBytes};

const VERSION: u32 = 3;
const BLOCK: u64 = 0x4000;
/// See docs/formats/edat.md; 0x04 has no meaning that is known.
const FLAGS: u32 = 0x04 | CLOSED_KEYS | HMAC | LONG;
/// What stands at the end.
const FOOTER: [u8; 16] = *b"EDATA 3.3.0.W\0\0\0";
/// Blocks that one thread takes at a time.
const AT_ONCE: u64 = 64;

/// What a new file is called, and its keys.
pub struct Making {
    content_id: String,
    name: String,
    free: Key,
    opener: Key,
    title: Key,
    header: Key,
}

impl Making {
    /// With the keys of the ring; `name` is what the file is called on the console.
    ///
    /// # Errors
    /// The trouble with a key that is missing.
    pub fn of(content_id: &str, name: &str, ring: &Keyring) -> std::result::Result<Self, KeyTrouble> {
        let find = |role| keys::find(ring, role, name).map(|(key, _)| key);
        Ok(Self {
            content_id: content_id.to_owned(),
            name: name.to_owned(),
            free: find(Role::NpdFree)?,
            opener: find(opener_of(VERSION))?,
            title: find(Role::NpdTitle)?,
            header: find(Role::NpdHeader)?,
        })
    }

    /// The header, its own codes still open.
    fn head(&self, content_len: u64) -> Result<Head> {
        if let Some(fault) = content_id::fault(&self.content_id) {
            return Err(Error::Usage(fault));
        }
        let mut head = Head::new_zeroed();
        head.magic = MAGIC;
        head.version.set(VERSION);
        head.license.set(FREE);
        head.content_id[..content_id::LEN].copy_from_slice(self.content_id.as_bytes());
        let seed = [self.content_id.as_bytes(), self.name.as_bytes(), &content_len.to_be_bytes()].concat();
        head.digest.copy_from_slice(&of_bytes(Algorithm::Sha1, &seed).bytes[..16]);
        head.title_hash = cmac(&self.title, &[&head.content_id, self.name.as_bytes()].concat())?;
        head.header_hash = cmac(&mixed(&self.header, self.free.bytes()), &head.as_bytes()[..HASHED])?;
        head.flags.set(FLAGS);
        head.block_len.set(BLOCK as u32);
        head.content_len.set(content_len);
        Ok(head)
    }
}

/// A file with this content. It is read once here, for the codes of its blocks, which stand before them.
///
/// # Errors
/// What reading fails with; [`Error::Usage`] for a content id of a wrong form.
pub fn compose(content: SourceRef, making: &Making, watch: &dyn Watch) -> Result<SourceRef> {
    let mut head = making.head(content.len())?;
    let coding = Coding::new(Header { raw: head }, making.free.clone(), Some(making.opener.clone()));
    let codes = codes(&content, &coding, watch)?;
    let entries: Vec<u8> = codes.iter().flat_map(|code| entry_of(coding.header(), code)).collect();
    head.entries_code = coding.overall(&entries)?;
    let coding = coding.with_header(Header { raw: head });
    head.header_code = coding.overall(&head.as_bytes()[..super::header::CODED])?;
    let coding = coding.with_header(Header { raw: head });
    let body = Body { content, coding, codes };
    let parts: Vec<SourceRef> =
        vec![Arc::new(Bytes(head.as_bytes().to_vec())), Arc::new(body), Arc::new(Bytes(FOOTER.to_vec()))];
    Ok(Arc::new(Concat::new(parts)?))
}

/// Block `number` of a content, closed; its code.
fn closed(content: &SourceRef, coding: &Coding, number: u64) -> Result<(Vec<u8>, [u8; MOST_CODE])> {
    let len = coding.header().len_of(number);
    let mut bytes = vec![0; len.next_multiple_of(16) as usize];
    content.read_at(number * BLOCK, &mut bytes[..len as usize])?;
    let code = coding.close(number, &mut bytes)?;
    Ok((bytes, code))
}

/// The codes of all blocks, on all processors.
fn codes(content: &SourceRef, coding: &Coding, watch: &dyn Watch) -> Result<Vec<[u8; MOST_CODE]>> {
    let (shares, all) = (Shares::new(coding.header().blocks(), AT_ONCE), Mutex::new(Vec::new()));
    let work = || {
        for share in &shares {
            watch::check(watch)?;
            let bytes = (share.end - share.start) * BLOCK;
            for number in share {
                let code = closed(content, coding, number)?.1;
                all.lock().unwrap_or_else(PoisonError::into_inner).push((number, code));
            }
            watch.advance(bytes);
        }
        Ok(())
    };
    // What is unpacked from front to back is read by one.
    if content.prefers_sequential() {
        work()?
    } else {
        threads::on_all(work)?
    }
    let mut all = all.into_inner().unwrap_or_else(PoisonError::into_inner);
    all.sort_by_key(|(number, _)| *number);
    Ok(all.into_iter().map(|(_, code)| code).collect())
}

/// Entries and blocks in turn.
struct Body {
    content: SourceRef,
    coding: Coding,
    codes: Vec<[u8; MOST_CODE]>,
}

/// A part of an entry with its block: the number of both, the first byte, and where they go.
type Piece<'a> = (u64, usize, &'a mut [u8]);

/// Reads of more blocks than this are shared by all processors.
const ALONE: usize = 4;

impl Body {
    /// Fills a part of an entry with its block.
    fn fill(&self, (number, into, out): Piece<'_>) -> Result<()> {
        let mut both = entry_of(self.coding.header(), &self.codes[number as usize]);
        let (bytes, code) = closed(&self.content, &self.coding, number)?;
        if code != self.codes[number as usize] {
            return Err(Error::Unreadable { why: format!("block {number} of the source is another one than before") });
        }
        both.extend(bytes);
        out.copy_from_slice(&both[into..into + out.len()]);
        Ok(())
    }
}

impl Source for Body {
    fn len(&self) -> u64 {
        self.coding.header().end() - LEN
    }

    fn read_at(&self, mut offset: u64, mut buf: &mut [u8]) -> Result<()> {
        check_range(self.len(), offset, buf.len() as u64)?;
        let header = self.coding.header();
        let step = header.entry_len() + BLOCK;
        let mut pieces: Vec<Piece<'_>> = Vec::new();
        while !buf.is_empty() {
            let (number, into) = (offset / step, (offset % step) as usize);
            let both = header.entry_len() + header.len_of(number).next_multiple_of(16);
            let here = buf.len().min(both as usize - into);
            let (now, later) = buf.split_at_mut(here);
            pieces.push((number, into, now));
            offset += here as u64;
            buf = later;
        }
        let is_alone = pieces.len() <= ALONE || self.content.prefers_sequential();
        let pieces = Mutex::new(pieces.into_iter());
        let next = || pieces.lock().unwrap_or_else(PoisonError::into_inner).next();
        let work = || std::iter::from_fn(next).try_for_each(|piece| self.fill(piece));
        if is_alone { work() } else { threads::on_all(work) }
    }

    fn prefers_sequential(&self) -> bool {
        self.content.prefers_sequential()
    }
}
