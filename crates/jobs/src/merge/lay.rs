//! A merged file, laid out; and held against the digests that it carries once it is written.

use super::{Form, Found};
use crate::{Setting, verify};
use decanter_core::blueprint::Blueprint;
use decanter_core::source::FileSource;
use decanter_core::{Keyring, Result, SourceRef};
use decanter_formats::package::nx::load::{self, Load};
use decanter_formats::package::nx::{nsp, xci};
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
}

/// Lays titles out as one file, in their order.
pub(crate) fn lay(titles: &[Found<'_>], form: Form, is_padded: bool, keys: &Keyring, setting: &Setting<'_>) -> Result<Laid> {
    let Load { files, mut notices } = load::load(titles)?;
    let named: Vec<(String, SourceRef)> = files.iter().map(|f| (f.name.clone(), f.source.clone())).collect();
    let mut facts = Vec::new();
    let (mut blueprint, parts) = match form {
        Form::Nsp => nsp::compose(&named)?,
        Form::Xci => {
            let card = xci::compose(xci::Making { secure: named, is_padded, keys })?;
            facts.push(("card".to_owned(), format!("{} GB", card.class.gigabytes())));
            notices.push("the signature of the card's header is a placeholder: consoles that check it refuse the card".into());
            if !card.has_info {
                notices.push("the encrypted part of the card's header is zeros: nx.card.header is not in the keyring".into());
            }
            (card.blueprint, card.parts)
        }
    };
    let checked = if setting.unchecked { 0 } else { files.iter().filter(|f| f.expected.is_some()).count() };
    if !setting.unchecked {
        load::check(&mut blueprint, &parts, &files);
    }
    Ok(Laid { blueprint, checked, files: files.len(), notices, facts })
}

/// Reads a result back and checks every digest in it; says how many there were.
pub(crate) fn prove(path: &Path, keys: &Keyring, setting: &Setting<'_>) -> Result<usize> {
    let source: SourceRef = Arc::new(FileSource::own(path)?);
    let opened = setting.opener(keys).open(source)?;
    verify::prove(&opened, setting)
}
