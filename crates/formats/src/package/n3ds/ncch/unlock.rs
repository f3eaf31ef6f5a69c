//! Which parts of a content are encrypted, with which key, and whether that key is right.
//!
//! The hashes in the header decide, not the flags: dumps whose flags lie are common.

use super::exefs::{self, Member};
use super::header::{Area, FIXED_KEY, Header, SEEDED};
use crate::package::n3ds::keys::{self, Role};
use crate::package::n3ds::{sha256, sha256_of, title};
use decanter_core::error::{KeyTrouble, KeyWay};
use decanter_core::keyring::{Key, Keyring};
use decanter_core::protection::{KeyState, State};
use decanter_core::source::{SourceRef, read_vec};
use decanter_core::transform::Transform;
use decanter_core::view::{CtrRanges, Keystream, Locked, Streamed};
use decanter_core::{Error, Result};
use std::ops::Range;
use std::sync::Arc;

/// The largest program that is hashed to prove a key, where there is no RomFS to prove it by.
const MOST_PROOF: u64 = 64 << 20;

/// What came of it.
pub struct Unlocked {
    /// The content in the clear; locked where a key is missing.
    pub view: SourceRef,
    /// What decrypts it.
    pub ctr: Option<Arc<CtrRanges>>,
    /// Whether it is encrypted.
    pub state: State,
    /// How that is known.
    pub evidence: String,
    /// What is known of the keys.
    pub key: KeyState,
    /// Encrypted stretches, sorted and disjoint.
    pub encrypted: Vec<Range<u64>>,
    /// Those of them whose key is missing or wrong.
    pub locked: Vec<Range<u64>>,
    /// Members of the ExeFS.
    pub members: Vec<Member>,
    /// What was noticed.
    pub notices: Vec<String>,
}

/// What a part with a hash is, as stored.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Looks {
    /// Its hash holds.
    Plain,
    /// It does not.
    Other,
    /// The source ends before.
    Cut,
}

fn looks(source: &SourceRef, range: Range<u64>, hash: &[u8]) -> Result<Looks> {
    if range.end > source.len() {
        return Ok(Looks::Cut);
    }
    Ok(if sha256_of(source.as_ref(), range)? == *hash { Looks::Plain } else { Looks::Other })
}

/// The key of one slot, or what is wrong.
type SlotKey = std::result::Result<(Key, String), KeyTrouble>;

/// A content on the way.
struct Lock<'a> {
    header: &'a Header,
    stored: &'a SourceRef,
    keys: &'a Keyring,
    streams: Vec<(Range<u64>, u64, u128, Key)>,
    locked: Vec<Range<u64>>,
    trouble: Option<KeyTrouble>,
    origins: Vec<String>,
    proofs: Vec<&'static str>,
    /// Keys that some hash proves right: where another one does not hold, the bytes are damaged and not the key wrong.
    right: Vec<Key>,
    notices: Vec<String>,
}

/// A part and the hash of its beginning.
struct Proof<'a> {
    part: u8,
    range: Range<u64>,
    hashed: Range<u64>,
    hash: &'a [u8],
    name: &'static str,
}

/// The proof of a part with a hash of its own.
fn area_proof<'a>(part: u8, area: &'a Area, name: &'static str) -> Proof<'a> {
    let start = area.range.start;
    Proof { part, range: area.range.clone(), hashed: start..start + area.hashed, hash: &area.hash, name }
}

/// Finds out how `stored` is encrypted, and undoes it as far as the keys allow.
///
/// # Errors
/// What reading fails with, and broken tables.
pub(super) fn unlock(header: &Header, stored: &SourceRef, keys: &Keyring) -> Result<Unlocked> {
    let extended = header.extended.as_ref().map(|r| r.start..r.start + super::header::EXTENDED_HASHED);
    let exefs = header.exefs.as_ref().map(|a| (a.range.start..a.range.start + a.hashed, &a.hash[..]));
    let romfs = header.romfs.as_ref().map(|a| (a.range.start..a.range.start + a.hashed, &a.hash[..]));
    let parts =
        [("extended header", extended.map(|r| (r, &header.raw[0x160..0x180]))), ("ExeFS", exefs), ("RomFS", romfs)];
    let mut found = Vec::new();
    for (name, part) in parts {
        if let Some((range, hash)) = part.filter(|(range, _)| !range.is_empty()) {
            found.push((name, looks(stored, range, hash)?));
        }
    }
    let plain = found.iter().filter(|(_, l)| *l == Looks::Plain).count();
    let other = found.iter().any(|(_, l)| *l == Looks::Other);
    let is_plain = plain > 0 || header.says_plain() || found.is_empty();
    let names =
        |which: Looks| found.iter().filter(|(_, l)| *l == which).map(|(n, _)| *n).collect::<Vec<_>>().join(", ");
    if is_plain {
        let mut notices = Vec::new();
        let members = match &header.exefs {
            Some(area) if area.range.start + exefs::HEADER <= stored.len() => exefs::read(stored.as_ref(), &area.range)
                .or_else(|e| match e {
                    Error::Io { .. } => Err(e),
                    e => {
                        notices.push(format!("the ExeFS cannot be read: {e}"));
                        Ok(Vec::new())
                    }
                })?,
            _ => Vec::new(),
        };
        let (state, evidence) = match (plain > 0, header.says_plain()) {
            (true, true) => (State::Decrypted, format!("the hash of {} holds as it is stored", names(Looks::Plain))),
            (true, false) => (
                State::Unclear,
                format!("its flags say encrypted, but the hash of {} holds as it is stored", names(Looks::Plain)),
            ),
            (false, _) if found.is_empty() => (State::Decrypted, "it has no part that could be encrypted".into()),
            (false, _) => (State::Decrypted, "its flags say so, though no hash holds".into()),
        };
        if other {
            notices.push(format!("damaged: the hash of {} does not hold", names(Looks::Other)));
        }
        return Ok(Unlocked {
            view: stored.clone(),
            ctr: None,
            state,
            evidence,
            key: KeyState::NotNeeded,
            encrypted: Vec::new(),
            locked: Vec::new(),
            members,
            notices,
        });
    }
    let lock = Lock {
        header,
        stored,
        keys,
        streams: Vec::new(),
        locked: Vec::new(),
        trouble: None,
        origins: Vec::new(),
        proofs: Vec::new(),
        right: Vec::new(),
        notices: Vec::new(),
    };
    lock.open()
}

impl Lock<'_> {
    fn open(mut self) -> Result<Unlocked> {
        let header = self.header;
        let id = title::shown(header.program_id());
        let first = self.slot(0x2c, header.key_y(), &format!("extended header, icon and banner of {id}"));
        let second = self.second(&format!("RomFS and code of {id}"));
        let mut encrypted = Vec::new();
        let mut members = Vec::new();
        let extended = header.extended.as_ref().map(|range| Proof {
            part: 1,
            range: range.clone(),
            hashed: range.start..range.start + super::header::EXTENDED_HASHED,
            hash: &header.raw[0x160..0x180],
            name: "extended header",
        });
        let exefs = header.exefs.as_ref().map(|area| area_proof(2, area, "ExeFS"));
        let romfs = header.romfs.as_ref().map(|area| area_proof(3, area, "RomFS"));
        for (proof, key) in [(&extended, &first), (&exefs, &first), (&romfs, &second)] {
            if let (Some(proof), Ok((key, _))) = (proof, key)
                && self.holds(proof, key)? == Some(true)
            {
                self.right.push(key.clone());
            }
        }
        for proof in [&extended, &exefs, &romfs].into_iter().flatten() {
            encrypted.push(proof.range.clone());
        }
        if let Some(proof) = &extended {
            self.part(proof, proof.range.clone(), &first)?;
        }
        if let Some(proof) = &exefs {
            members = self.exefs(proof, &first, &second)?;
        }
        if let Some(proof) = &romfs {
            self.part(proof, proof.range.clone(), &second)?;
        }
        encrypted.sort_by_key(|r| r.start);
        let streams =
            self.streams.drain(..).map(|(range, origin, counter, key)| Keystream { range, origin, counter, key });
        let ctr = Arc::new(CtrRanges::new(streams.collect())?);
        self.locked.sort_by_key(|r| r.start);
        let mut view = self.stored.clone();
        if let Some(trouble) = &self.trouble {
            view = Arc::new(Locked::new(view, self.locked.clone().into(), trouble.clone()));
        }
        view = Arc::new(Streamed::new(view, ctr.clone()));
        let key = match self.trouble {
            Some(trouble) => KeyState::Trouble(trouble),
            None => {
                self.origins.dedup();
                let proof = (!self.proofs.is_empty()).then(|| format!("the hash of {}", self.proofs.join(", ")));
                KeyState::Found { origin: self.origins.join(", "), proof }
            }
        };
        Ok(Unlocked {
            view,
            ctr: Some(ctr),
            state: State::Encrypted,
            evidence: "no hash holds as it is stored".into(),
            key,
            encrypted,
            locked: self.locked,
            members,
            notices: self.notices,
        })
    }

    /// Key of a slot with this key Y, or the fixed one.
    fn slot(&self, slot: u8, y: [u8; 16], what: &str) -> SlotKey {
        if self.header.flags()[7] & FIXED_KEY != 0 {
            return match title::is_system(self.header.program_id()) {
                true => keys::find(self.keys, Role::FixedSystem, what),
                false => Ok((Key::new(vec![0; 16]), "the format (a key of zeros)".into())),
            };
        }
        keys::of_slot(self.keys, slot, &y, what)
    }

    /// Key of the second slot, with the seed mixed in where there is one.
    fn second(&self, what: &str) -> SlotKey {
        let flags = self.header.flags();
        let slot = match flags[3] {
            0x00 => 0x2c,
            0x01 => 0x25,
            0x0a => 0x18,
            0x0b => 0x1b,
            other => {
                let need = format!("the key of method {other:#04x}, which is not known (for {what})");
                return Err(KeyTrouble {
                    way: KeyWay::ByName,
                    need,
                    wrong: Vec::new(),
                    looked: self.keys.looked().to_vec(),
                });
            }
        };
        let mut y = self.header.key_y();
        if flags[7] & SEEDED != 0 && flags[7] & FIXED_KEY == 0 {
            let id = self.header.program_id();
            let (seed, origin) = keys::find(self.keys, Role::Seed(id), what)?;
            let check = sha256(&[seed.bytes(), &id.to_le_bytes()].concat());
            if check[..4] != self.header.raw[0x114..0x118] {
                let need = format!("n3ds.seed.{} (for {what})", title::shown(id));
                return Err(KeyTrouble {
                    way: KeyWay::ByName,
                    need,
                    wrong: vec![origin],
                    looked: self.keys.looked().to_vec(),
                });
            }
            let mixed = sha256(&[&y[..], seed.bytes()].concat());
            y.copy_from_slice(&mixed[..16]);
        }
        self.slot(slot, y, what)
    }

    /// Whether the hash of a part holds under a key; `None` where there is nothing to tell it by.
    fn holds(&self, proof: &Proof<'_>, key: &Key) -> Result<Option<bool>> {
        if proof.hashed.is_empty() || proof.hashed.end > self.stored.len() {
            return Ok(None);
        }
        let (origin, counter) = (proof.range.start, self.header.counter(proof.part, proof.range.start));
        let stream = Keystream { range: proof.range.clone(), origin, counter, key: key.clone() };
        let view = Streamed::new(self.stored.clone(), Arc::new(CtrRanges::new(vec![stream])?));
        Ok(Some(sha256_of(&view, proof.hashed.clone())? == *proof.hash))
    }

    /// Adds the bytes `range` of a part that are under one key, if that key is there and is not proven wrong.
    fn part(&mut self, proof: &Proof<'_>, range: Range<u64>, key: &SlotKey) -> Result<bool> {
        let (key, origin) = match key {
            Ok(found) => found.clone(),
            Err(trouble) => {
                self.lock(range, trouble.clone());
                return Ok(false);
            }
        };
        match self.holds(proof, &key)? {
            Some(true) => self.proofs.push(proof.name),
            Some(false) if self.right.contains(&key) => {
                self.notices
                    .push(format!("damaged: the hash of the {} does not hold, though its key is right", proof.name));
            }
            Some(false) => {
                self.lock(range, self.wrong(proof.name, &origin));
                return Ok(false);
            }
            None => {}
        }
        self.origins.push(origin);
        let counter = self.header.counter(proof.part, proof.range.start);
        self.streams.push((range, proof.range.start, counter, key));
        Ok(true)
    }

    fn wrong(&self, name: &str, origin: &str) -> KeyTrouble {
        let need = format!("the key of the {name} of {}", title::shown(self.header.program_id()));
        KeyTrouble { way: KeyWay::ByName, need, wrong: vec![origin.to_owned()], looked: self.keys.looked().to_vec() }
    }

    fn lock(&mut self, range: Range<u64>, trouble: KeyTrouble) {
        self.locked.push(range);
        self.trouble.get_or_insert(trouble);
    }

    /// The ExeFS: its header, icon and banner under the first key, all else under the second, with one counter.
    fn exefs(&mut self, proof: &Proof<'_>, first: &SlotKey, second: &SlotKey) -> Result<Vec<Member>> {
        let area = &proof.range;
        let (start, end) = (area.start, area.end);
        let head = start..(start + exefs::HEADER).min(end);
        if !self.part(proof, head.clone(), first)? || head.end > self.stored.len() {
            self.locked.push(head.end..end);
            return Ok(Vec::new());
        }
        let counter = self.header.counter(2, start);
        let (first_key, _) = first.as_ref().map_err(|t| Error::Key(t.clone()))?;
        let stream = |range: Range<u64>, key: &Key| Keystream { range, origin: start, counter, key: key.clone() };
        let view: SourceRef = Arc::new(Streamed::new(
            self.stored.clone(),
            Arc::new(CtrRanges::new(vec![stream(area.clone(), first_key)])?),
        ));
        let mut members = match exefs::read(view.as_ref(), area) {
            Err(e @ Error::Malformed { .. }) => {
                self.notices.push(format!("the ExeFS cannot be read: {e}"));
                self.add(head.end..end, start, counter, first_key);
                return Ok(Vec::new());
            }
            members => members?,
        };
        members.sort_by_key(|m| m.range.start);
        let mut at = head.end;
        for (index, member) in members.iter().enumerate().filter(|(_, m)| !m.is_of_first_slot()) {
            let next = members.get(index + 1).map_or(end, |m| m.range.start);
            let key = match second {
                Ok((key, origin)) => {
                    self.prove_member(member, key, origin, start, counter)?;
                    key
                }
                Err(trouble) => {
                    self.add(at..member.range.start, start, counter, first_key);
                    self.lock(member.range.start..next, trouble.clone());
                    at = next;
                    continue;
                }
            };
            self.add(at..member.range.start, start, counter, first_key);
            let filled = self.fills_up(&stream(member.range.start..next, key), member.range.end..next)?;
            let until = if filled { next } else { member.range.end };
            if self.locked.iter().all(|l| l.start != member.range.start) {
                self.add(member.range.start..until, start, counter, key);
            }
            at = until;
        }
        self.add(at..end, start, counter, first_key);
        // In the order of the header again.
        exefs::read(view.as_ref(), area)
    }

    fn add(&mut self, range: Range<u64>, origin: u64, counter: u128, key: &Key) {
        if !range.is_empty() {
            self.streams.push((range, origin, counter, key.clone()));
        }
    }

    /// Without a RomFS, or with a damaged one, nothing else proves the second key.
    fn prove_member(&mut self, member: &Member, key: &Key, origin: &str, start: u64, counter: u128) -> Result<()> {
        let len = member.range.end - member.range.start;
        if self.right.contains(key) || len > MOST_PROOF || member.range.end > self.stored.len() {
            return Ok(());
        }
        let stream = Keystream { range: member.range.clone(), origin: start, counter, key: key.clone() };
        let view = Streamed::new(self.stored.clone(), Arc::new(CtrRanges::new(vec![stream])?));
        if sha256_of(&view, member.range.clone())? == member.hash {
            self.proofs.push("code");
            self.right.push(key.clone());
        } else {
            let name = if self.header.romfs.is_some() { "RomFS and code" } else { "code" };
            let trouble = self.wrong(name, origin);
            self.lock(member.range.clone(), trouble);
        }
        Ok(())
    }

    /// Whether the bytes between a member and the next are zeros under the key of the member; else they are taken
    /// to be under the first one.
    fn fills_up(&self, stream: &Keystream, gap: Range<u64>) -> Result<bool> {
        // Members that overlap have nothing between them.
        let len = gap.end.saturating_sub(gap.start);
        if len == 0 || len > crate::package::n3ds::UNIT || gap.end > self.stored.len() {
            return Ok(false);
        }
        let own = Keystream {
            range: stream.range.clone(),
            origin: stream.origin,
            counter: stream.counter,
            key: stream.key.clone(),
        };
        let mut bytes = read_vec(self.stored.as_ref(), gap.start, len, "the end of a member", len)?;
        CtrRanges::new(vec![own])?.apply(gap.start, &mut bytes);
        Ok(bytes.iter().all(|&b| b == 0))
    }
}
