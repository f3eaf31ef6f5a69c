//! A merged file, laid out; and held against the digests that it carries once it is written.

use super::{Form, Found, Options};
use crate::{Setting, verify};
use decanter_core::blueprint::Blueprint;
use decanter_core::source::FileSource;
use decanter_core::view::Slice;
use decanter_core::{Error, Keyring, Result, SourceRef, compare, tell};
use decanter_formats::package::nx::load::{self, Body, Changes, Load};
use decanter_formats::package::nx::nca::Nca;
use decanter_formats::package::nx::{self, nsp, xci};
use serde::Serialize;
use std::path::Path;
use std::sync::Arc;

/// What came of laying out.
pub(crate) struct Laid {
    pub(crate) blueprint: Blueprint,
    /// How many contents are held against their digests.
    pub(crate) checked: usize,
    pub(crate) files: usize,
    pub(crate) notices: Vec<String>,
    /// Facts of the result: name and value.
    pub(crate) facts: Vec<(String, String)>,
    /// Contents as they were before their keys were moved.
    pub(crate) changed: Vec<(Nca, usize)>,
}

/// Lays titles out as one file, in their order.
pub(crate) fn lay(
    titles: &[Found<'_>],
    form: Form,
    options: &Options,
    keys: &Keyring,
    setting: &Setting<'_>,
) -> Result<Laid> {
    let changes = Changes { standard_crypto: options.standard_crypto, lowest_system: options.lowest_system };
    let Load { files, changed, mut notices } = load::load(titles, changes)?;
    let is_unchecked = setting.unchecked;
    let count = files.len();
    let checked = if is_unchecked { 0 } else { files.iter().filter(|f| f.expected.is_some()).count() };
    let lists = files.iter().filter(|f| matches!(f.body, Body::List(_))).count();
    let mut facts = Vec::new();
    if !changed.is_empty() {
        facts.push((
            "standard crypto".to_owned(),
            tell::count(
                changed.len() as u64,
                "content, its key now in its key area",
                "contents, their keys now in their key areas",
            ),
        ));
    }
    if lists > 0 {
        notices.push("lists and headers of contents were changed: their signatures are not valid any more, and consoles that check them refuse the titles".into());
    }
    let blueprint = match form {
        Form::Nsp => nsp::compose(files, is_unchecked)?,
        Form::Xci => {
            let card = xci::compose(xci::Making { secure: files, is_padded: options.pad, is_unchecked, keys })?;
            facts.push(("card".to_owned(), format!("{} GB", card.class.gigabytes())));
            notices.push(
                "the signature of the card's header is a placeholder: consoles that check it refuse the card".into(),
            );
            if !card.has_info {
                notices.push(
                    "the encrypted part of the card's header is zeros: nx.card.header is not in the keyring".into(),
                );
            }
            card.blueprint
        }
    };
    Ok(Laid { blueprint, checked, files: count, notices, facts, changed })
}

/// What reading a result back has shown.
#[derive(Debug, Clone, Serialize)]
pub struct Proof {
    /// Digests in it that hold.
    pub digests: usize,
    /// Bytes of contents under other keys than before, whose plaintext is the same.
    pub same_plaintext: u64,
    /// Files that were held against their sources, where files are what is merged.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub same_files: Option<usize>,
}

/// Reads a result back: every digest in it has to hold, and changed contents have to be the same without their encryption.
pub(crate) fn prove(path: &Path, changed: &[(Nca, usize)], keys: &Keyring, setting: &Setting<'_>) -> Result<Proof> {
    let source: SourceRef = Arc::new(FileSource::own(path)?);
    let opened = setting.opener(keys).open(source.clone())?;
    let digests = verify::prove(&opened, setting)?;
    let mut same_plaintext = 0;
    if !changed.is_empty() {
        let contents = nx::open_contents(&source, keys)?;
        for (before, index) in changed {
            let now = contents.nca(*index)?;
            if let Some(trouble) = now.trouble() {
                return Err(trouble.clone().into());
            }
            for section in &before.sections {
                let (start, len) = (section.range.start, section.range.end - section.range.start);
                let [old, new] = [&before.clear, &now.clear].map(|s| Slice::new(s.clone(), start, len));
                if let Some(at) = compare::first_difference(&old?, &new?, setting.watch)? {
                    let what = format!(
                        "the plaintext of {}, section {}, at {at:#x}",
                        contents.files[*index].name, section.index
                    );
                    return Err(Error::Checksum {
                        what,
                        expected: "the same bytes as before".into(),
                        found: "others".into(),
                    });
                }
                same_plaintext += len;
            }
        }
    }
    Ok(Proof { digests, same_plaintext, same_files: None })
}
