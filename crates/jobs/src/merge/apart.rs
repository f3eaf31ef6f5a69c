//! A merged file apart again: a package for each title in it.

use super::report::{UnmergeReport, Unmerged};
use super::{Form, Options, advise, lay, name};
use crate::family::Member;
use crate::{Answer, Failure, Setting, locate, place};
use decanter_core::error::Blame;
use decanter_core::pour::Output;
use decanter_core::protection::KeyState;
use decanter_core::{Error, Notice};
use decanter_formats::package::nx;
use std::path::Path;

/// Takes a source apart into packages in a folder.
///
/// # Errors
/// When it holds no titles, or the folder cannot be written. A title that cannot be taken out is a row.
pub fn unmerge(shown: &str, output: Option<&Path>, setting: &Setting<'_>) -> Result<(UnmergeReport, Answer), Failure> {
    let what = format!("cannot take \"{shown}\" apart");
    let item = locate::open(shown, "take apart", setting)?;
    if let Some(KeyState::Trouble(trouble)) = item.opened.protection.as_ref().map(|p| &p.key)
        && item.opened.holds.titles.is_empty()
    {
        return Err(advise(&what, trouble.clone().into()));
    }
    let (Some(source), false) = (&item.source, item.opened.holds.titles.is_empty()) else {
        let kind = crate::failure::with_article(&item.opened.identity.kind);
        return Err(Failure::usage(what, format!("it is {kind}, in which no titles are found"))
            .hint("give a package (nsp) or a gamecard image (xci)"));
    };
    let keyring = item.opened.holds.keys.as_deref().unwrap_or(&item.keyring).clone();
    let contents = nx::open_contents(source, &keyring).map_err(|e| Failure::new(what.clone(), e))?;
    let folder = place::folder(&item, output);
    let mut report = UnmergeReport {
        schema: "decanter.unmerge/1",
        source: item.address.clone(),
        dry_run: setting.dry_run,
        results: Vec::new(),
        notices: item.notices().to_vec(),
    };
    for (title, held) in contents.titles.iter().zip(&item.opened.holds.titles) {
        if setting.watch.cancelled() {
            return Err(Failure::new(what, Error::Cancelled));
        }
        let (source, name) = (item.address.clone(), item.opened.identity.title.clone());
        let member = Member { source, number: 0, name, title: held.clone() };
        let target = folder.join(decanter_core::native::os(&name::single(member.name.as_deref(), &member)));
        let mut row = Unmerged { id: held.id.clone(), what: member.what(), ..Unmerged::default() };
        match lay(&[(&contents, title)], Form::Nsp, &Options::default(), &keyring, setting) {
            Ok(laid) => {
                setting.check_target(&target)?;
                setting.watch.begin(&format!("writing {}", member.what()), Some(laid.blueprint.len()));
                let poured = setting.pour_one(Output::new(&laid.blueprint, &target), setting.door(), &mut |_| Ok(()));
                setting.watch.end();
                match poured {
                    Ok(poured) => {
                        (row.path, row.checked) = (Some(target), laid.checked);
                        row.bytes = poured.map_or(laid.blueprint.len(), |p| p.bytes);
                        report.notices.extend(laid.notices.iter().map(Notice::new));
                    }
                    Err(e) if e.blame() == Blame::Request => return Err(place::refused(&target, e)),
                    Err(e @ (Error::Cancelled | Error::NoSpace { .. } | Error::FileTooLarge { .. })) => {
                        return Err(advise(&what, e));
                    }
                    Err(e) => row.error = Some(e.to_string()),
                }
            }
            Err(e) => row.error = Some(e.to_string()),
        }
        report.results.push(row);
    }
    let is_whole = report.results.iter().all(|r| r.error.is_none());
    Ok((report, if is_whole { Answer::Yes } else { Answer::No }))
}
