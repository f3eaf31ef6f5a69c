//! What a package says of itself: its contents' hashes, how it is encrypted, and whether its headers fit each other.

use super::tmd::{self, ENCRYPTED};
use super::{Entry, Package};
use crate::package::n3ds::ncch::Content;
use crate::package::n3ds::{ncsd, title};
use decanter_core::Digest;
use decanter_core::blueprint::Blueprint;
use decanter_core::protection::{KeyState, Protection, State};
use decanter_core::seal::{Expected, Seal, Settled};
use decanter_core::tell::grouped;

/// The seal of all of a content, as the metadata has it.
pub(super) fn seal_of_whole(entry: &Entry, whole: Digest) -> Seal {
    Seal {
        name: "the content as a whole".into(),
        range: 0..entry.record.len,
        of_plaintext: false,
        expected: Expected::Digest(whole),
        matters: "a console refuses to install it: dump or download it again",
        inside: None,
    }
}

/// How the package is encrypted: by the title key, or within its contents, or both.
pub(super) fn protection(package: &Package, clear: Option<Blueprint>) -> Protection {
    let contents: Vec<&Content> = package.entries.iter().filter_map(|e| e.content.as_ref().ok()).collect();
    let mut protection = ncsd::protection(&contents, None);
    let coded = package.entries.iter().any(|e| e.record.kind & ENCRYPTED != 0 && e.range.is_some());
    if coded {
        let inside = if protection.state == State::Encrypted { ", and once more within" } else { "" };
        protection.evidence = format!("its metadata says that contents are under the title key{inside}");
        protection.state = State::Encrypted;
        if !matches!(protection.key, KeyState::Trouble(_)) {
            protection.key = package.title_key.clone();
        }
    } else if contents.is_empty() {
        (protection.state, protection.evidence) =
            (State::Decrypted, "its metadata says that no content is encrypted".into());
    }
    if let KeyState::Trouble(trouble) = &package.title_key {
        protection.key = KeyState::Trouble(trouble.clone());
    }
    protection.clear = clear.filter(|_| protection.state != State::Decrypted);
    protection
}

/// What headers say of each other.
pub(super) fn settled(package: &Package) -> Vec<Settled> {
    const INSTALL: &str = "a console refuses to install it";
    let mut all = Vec::new();
    let mut push = |name: &str, wrong: Option<String>, matters: &'static str| {
        all.push(Settled {
            name: name.to_owned(),
            holds: wrong.is_none(),
            note: wrong,
            matters: Some(matters),
            is_digest: true,
        });
    };
    let infos = (!package.tmd.infos_hold()).then(|| "the hash of the information records does not hold".to_owned());
    push("title metadata, information records", infos, INSTALL);
    push("title metadata, content records", package.tmd.records_hold().err(), INSTALL);
    let (tmd, ticket) = (package.tmd.title_id(), package.ticket.title_id());
    let other = (tmd != ticket).then(|| format!("{} and {}", title::shown(tmd), title::shown(ticket)));
    push("title id of metadata and ticket", other, INSTALL);
    if let Some(main) = package.main() {
        let program = main.header.program_id();
        let other = (title::unique_id(program) != title::unique_id(tmd))
            .then(|| format!("{} and {}", title::shown(tmd), title::shown(program)));
        push("title id of metadata and program", other, "it installs under an id that the program does not have");
    }
    let sum: u64 =
        package.entries.iter().filter(|e| e.range.is_some()).map(|e| e.record.len).fold(0, u64::saturating_add);
    let said = package.sections[3].end - package.sections[3].start;
    let wrong = (sum != said).then(|| format!("the header says {}, the contents have {}", grouped(said), grouped(sum)));
    push("length of all contents", wrong, INSTALL);
    let unknown: Vec<String> = (0..tmd::MOST_CONTENTS)
        .filter(|&i| package.is_present(i as u16) && !package.tmd.records.iter().any(|r| usize::from(r.index) == i))
        .take(8)
        .map(|i| i.to_string())
        .collect();
    let wrong =
        (!unknown.is_empty()).then(|| format!("it names contents that the metadata does not: {}", unknown.join(", ")));
    push("content index bitmap", wrong, INSTALL);
    let absent = package.entries.iter().filter(|e| e.range.is_none() && e.record.kind & tmd::OPTIONAL == 0);
    let absent: Vec<String> = absent.take(8).map(|e| e.record.index.to_string()).collect();
    let wrong = (!absent.is_empty()).then(|| format!("not in the package: {}", absent.join(", ")));
    push("contents that are not optional", wrong, "what is missing has to be installed from elsewhere");
    all
}
