//! PS3 discs: an ISO 9660 volume, parts of which are encrypted sector by sector.
//!
//! AES-128-CBC over each 2,048-byte sector of an encrypted region, the sector's number as initialisation
//! vector. Layout, checks and what is not sure: docs/formats/ps3-disc.md.

mod proof;
pub mod regions;

use crate::record::sfo;
use decanter_core::blueprint::Blueprint;
use decanter_core::error::{KeyTrouble, KeyWay};
use decanter_core::format::{Format, Opener};
use decanter_core::head::{Head, Mark};
use decanter_core::keyring::Key;
use decanter_core::opened::Opened;
use decanter_core::protection::{AsItIs, KeyState, Protection, State};
use decanter_core::role::{Medium, Role};
use decanter_core::source::{Source, SourceRef};
use decanter_core::transform::Transform;
use decanter_core::tree::{Content, Kind, Tree};
use decanter_core::view::{Ciphered, Direction, Locked, SectorCbc};
use decanter_core::{Result, SECTOR};
use proof::Verdict;
use regions::RegionTable;
use std::ops::Range;
use std::sync::Arc;

const ID: &str = "ps3-disc";
/// The game's parameter file, and one that discs without a game have.
const PARAMETERS: [&str; 2] = ["PS3_GAME/PARAM.SFO", "PARAM.SFO"];

/// The format.
pub struct Ps3Disc;

impl Format for Ps3Disc {
    fn id(&self) -> &'static str {
        ID
    }

    fn name(&self) -> &'static str {
        "PS3 disc image"
    }

    fn role(&self) -> Role {
        Role::Image(Medium::Disc)
    }

    fn extensions(&self) -> &'static [&'static str] {
        &["iso"]
    }

    fn reads(&self) -> &'static str {
        "encrypted and decrypted images; decrypts with the user's disc key"
    }

    fn marks(&self) -> &'static [Mark] {
        &[Mark { at: SECTOR, bytes: regions::MAGIC }]
    }

    fn score(&self, source: &Head<'_>) -> Result<Option<u8>> {
        Ok((source.len() >= 2 * SECTOR).then_some(90))
    }

    fn open(&self, source: SourceRef, opener: &Opener<'_>) -> Result<Opened> {
        let table = RegionTable::read(source.as_ref())?;
        let disc_id = regions::disc_id(source.as_ref())?;
        let encrypted: Arc<[Range<u64>]> = table.encrypted().into();
        let volume = |view: SourceRef| opener.open_among(view, &|f| f.id() != ID);

        let plain = volume(source.clone())?;
        let plain_tree = plain.holds.tree.unwrap_or_default();
        let (state, evidence) = proof::state(&source, &plain_tree, &encrypted)?;
        let need = format!("the disc key for {}", if disc_id.is_empty() { "this disc" } else { &disc_id });
        let mut names = vec![disc_id.clone()];
        names.extend(opener.names().iter().cloned());

        let mut opened = Opened::new(ID, "PS3 disc image");
        opened.told.notices = plain.told.notices;
        opened.extent.structure = plain.extent.structure;
        let found = match state {
            State::Decrypted if encrypted.is_empty() => Found::none(),
            State::Decrypted => seal_key(&encrypted, &names, opener),
            _ => find_key(&source, &plain_tree, &encrypted, need, &names, opener)?,
        };
        let (view, mut tree) = match (&found.cbc, &found.trouble) {
            (Some(cbc), _) if state != State::Decrypted => {
                let view: SourceRef = Arc::new(Ciphered::new(source.clone(), cbc.clone()).refusing_blank());
                let inner = volume(view.clone())?;
                (opened.told.notices, opened.extent.structure) = (inner.told.notices, inner.extent.structure);
                (view, inner.holds.tree.unwrap_or_default())
            }
            (None, Some(trouble)) => {
                let view: SourceRef = Arc::new(Locked::new(source.clone(), encrypted.clone(), trouble.clone()));
                let inner = volume(view.clone())?;
                opened.told.notices = inner.told.notices;
                (view, inner.holds.tree.unwrap_or_default())
            }
            _ => (source.clone(), plain_tree),
        };
        if found.trouble.is_some() {
            lock(&mut tree, &encrypted);
        }
        opened.told.notices.extend(found.notices.iter().map(decanter_core::Notice::new));
        tell(&mut opened, &tree, &disc_id, opener)?;
        opened.extent.promised_len = Some(table.disc_len());
        opened.extent.regions = table.regions;
        let decrypts = state != State::Decrypted && found.cbc.is_some();
        let as_it_is = found.cbc.clone().filter(|_| decrypts).map(|cbc| {
            let blank = Arc::default();
            let view = Ciphered::new(source, cbc).counting_blank(Arc::clone(&blank));
            AsItIs { clear: Blueprint::of(Arc::new(view)), blank }
        });
        let transform = found.cbc.map(|cbc| cbc as Arc<dyn Transform>);
        opened.protection = Some(Protection {
            state,
            evidence,
            key: found.key,
            clear: decrypts.then(|| Blueprint::of(view)),
            has_clear_form: true,
            clear_as_it_is: as_it_is,
            unseal: transform.clone().filter(|_| decrypts),
            seal: transform.filter(|_| !decrypts),
        });
        opened.holds.tree = Some(tree);
        Ok(opened)
    }
}

/// What the search for a key came to.
struct Found {
    cbc: Option<Arc<SectorCbc>>,
    key: KeyState,
    trouble: Option<KeyTrouble>,
    notices: Vec<String>,
}

impl Found {
    fn none() -> Self {
        Self { cbc: None, key: KeyState::NotNeeded, trouble: None, notices: Vec::new() }
    }
}

fn cipher(key: &Key, direction: Direction, encrypted: &Arc<[Range<u64>]>) -> Result<Arc<SectorCbc>> {
    Ok(Arc::new(SectorCbc::new(key, direction, SECTOR, encrypted.clone())?))
}

/// Tries all candidates and takes the first that is proven right, else the first that cannot be proven wrong.
fn find_key(
    source: &SourceRef,
    tree: &Tree,
    encrypted: &Arc<[Range<u64>]>,
    need: String,
    names: &[String],
    opener: &Opener<'_>,
) -> Result<Found> {
    let (mut wrong, mut unproven, mut notices) = (Vec::new(), None, Vec::new());
    for entry in opener.keys().candidates(names) {
        let Ok(cbc) = cipher(&entry.key, Direction::Decrypt, encrypted) else {
            wrong.push(format!("{}, which has not 16 bytes", entry.origin));
            continue;
        };
        let view: SourceRef = Arc::new(Ciphered::new(source.clone(), cbc.clone()));
        match proof::try_key(source, &view, tree, encrypted)? {
            Verdict::Right(path) => {
                notices.extend(wrong.iter().map(|w| format!("the key in {w} is wrong for this disc")));
                let key = KeyState::Found { origin: entry.origin.clone(), proof: Some(path) };
                return Ok(Found { cbc: Some(cbc), key, trouble: None, notices });
            }
            Verdict::Wrong => wrong.push(entry.origin.clone()),
            Verdict::Unproven => unproven = unproven.or(Some((cbc, entry.origin.clone()))),
        }
    }
    if let Some((cbc, origin)) = unproven {
        notices.push(format!("nothing on this disc can prove the key in {origin} right or wrong; it is used as it is"));
        return Ok(Found { cbc: Some(cbc), key: KeyState::Found { origin, proof: None }, trouble: None, notices });
    }
    let trouble = KeyTrouble { way: KeyWay::Alone, need, wrong, looked: opener.keys().looked().to_vec() };
    Ok(Found { cbc: None, key: KeyState::Trouble(trouble.clone()), trouble: Some(trouble), notices })
}

/// A key for turning a decrypted image back into what the disc has, for descriptions that hash the ciphertext. It
/// cannot be proven from the image, so it is only used where a digest proves it.
fn seal_key(encrypted: &Arc<[Range<u64>]>, names: &[String], opener: &Opener<'_>) -> Found {
    let first = opener.keys().candidates(names).into_iter().next();
    let cbc = first.and_then(|entry| cipher(&entry.key, Direction::Encrypt, encrypted).ok());
    Found { cbc, ..Found::none() }
}

/// Marks the files that cannot be read without the key.
fn lock(tree: &mut Tree, encrypted: &[Range<u64>]) {
    for node in &mut tree.nodes {
        if let Kind::File(file) = &mut node.kind
            && let Content::Whole(source) = &file.content
            && file.spans.iter().any(|s| encrypted.iter().any(|r| r.start < s.end && s.start < r.end && !s.is_empty()))
        {
            file.content = Content::Locked(source.clone());
        }
    }
}

/// Title, id and version, from the parameter file where it can be read and from sector 1.
fn tell(opened: &mut Opened, tree: &Tree, disc_id: &str, opener: &Opener<'_>) -> Result<()> {
    let parameters = sfo::in_tree(opened, tree, &PARAMETERS, opener)?;
    let fact = |name: &str| parameters.as_ref().and_then(|p| p.get(name)).unwrap_or_default();
    let identity = parameters.as_ref().map(|p| &p.identity);
    let id = identity.and_then(|i| i.id.as_deref()).unwrap_or_default();
    opened.titled(identity.and_then(|i| i.title.clone()).unwrap_or_default());
    opened.identified(if disc_id.is_empty() { id } else { disc_id });
    let same = decanter_core::keyring::plain(id) == decanter_core::keyring::plain(disc_id);
    if !id.is_empty() && !disc_id.is_empty() && !same {
        opened.notice(format!("the parameter file says {id}, sector 1 says {disc_id}"));
    }
    opened.fact("version", fact("version"));
    let system = parameters.iter().flat_map(|p| &p.told.parameters).find(|(name, _)| name == "PS3_SYSTEM_VER");
    opened.fact("needs system", system.map(|(_, value)| value.as_str()).unwrap_or_default());
    opened.fact("category", fact("category"));
    Ok(())
}
