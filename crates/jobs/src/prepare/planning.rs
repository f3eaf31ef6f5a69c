//! From sources to a plan: each is looked at by itself, on all cores; then copies, titles and names are settled together.

use super::copies::{self, Copy};
use super::names::{Names, Values};
use super::plan::{LeftOut, Make, More, Plan, VERSION, file_of};
use super::platform::Platform;
use super::profile::{PlatformRules, Profile};
use super::tags::Tags;
use super::ways::{self, Keeps, MERGE, Way};
use crate::convert::table;
use crate::family::{Family, Member, families};
use crate::locate;
use crate::shelf::{self, Found, Search, Taste, Turn};
use crate::{Failure, Item, Setting, estimate::Sample, title_folder};
use decanter_core::names::stem_of;
use decanter_core::role::Role;
use decanter_core::title::HeldTitle;
use decanter_core::{Error, native, tell};
use std::collections::BTreeMap;
use std::convert::Infallible;
use std::path::Path;

/// What was found out about the sources.
pub(super) struct Planned {
    pub(super) plan: Plan,
    /// Files in the folders that are nothing that is prepared.
    pub(super) unknown: usize,
    /// What all samples have shown, and of how many sources.
    pub(super) sample: Sample,
    pub(super) sampled: usize,
    /// Bytes that are packed.
    pub(super) to_pack: u64,
}

/// What came of looking at a source.
enum Looked {
    /// It can be made.
    Made(Box<Candidate>),
    LeftOut(LeftOut),
    /// It was found in a folder, and is nothing of a machine.
    Nothing,
    Stopped,
}

/// A source that can be made.
struct Candidate {
    platform: &'static Platform,
    way: Way,
    values: Values,
    copy: Copy,
    title: String,
    bytes: u64,
    file_bytes: u64,
    modified: i64,
    titles: Vec<HeldTitle>,
}

/// Plans what is made of `sources`.
///
/// # Errors
/// When the user stops, or nothing is there.
pub(super) fn plan(sources: &[String], profile: &Profile, setting: &Setting<'_>) -> Result<Planned, Failure> {
    let what = "cannot prepare this";
    let takes: fn(Role) -> bool =
        |role| !matches!(role, Role::Patch | Role::Description | Role::Record | Role::Unknown) && role != Role::Sheet;
    let taste = Taste { takes_roms_apart: true, keeps_titles: true, ..Taste::of(takes) };
    let mut search = Search::of(sources, &taste, false, setting).map_err(|e| Failure::new(what, e))?;
    if search.found.is_empty() && search.failed.is_empty() {
        return Err(shelf::nothing_found(sources, "could be prepared", &search));
    }
    let mut left_out: Vec<LeftOut> = search.failed.drain(..).map(|(source, failure)| told(source, &failure)).collect();
    left_out.extend(search.described.drain(..).map(|folder| LeftOut {
        next: Some(format!("decanter identify {} says what it can become", crate::quoted(&folder))),
        why: "a folder with a PARAM.SFO that is no whole title: a part of one, or saves".into(),
        source: folder,
    }));
    let (mut candidates, mut unknown) = (Vec::new(), search.unknown);
    let one = |found: &Found, setting: &Setting<'_>, _: &Turn<'_>| look(found, profile, setting);
    let mut is_stopped = false;
    let Ok(()) = shelf::work(&search.found, "looking at", setting, &one, &mut |_, looked| {
        match looked {
            Looked::Made(candidate) => candidates.push(*candidate),
            Looked::LeftOut(left) => left_out.push(left),
            Looked::Nothing => unknown += 1,
            Looked::Stopped => is_stopped = true,
        }
        Ok::<(), Infallible>(())
    });
    if is_stopped || setting.watch.cancelled() {
        return Err(Failure::new("prepare was stopped", Error::Cancelled));
    }
    let mut planned = Planned {
        plan: Plan {
            plan: VERSION,
            profile: profile.name.clone(),
            largest_file: profile.card.largest_file.as_ref().map(|size| size.bytes),
            leave: profile.card.leave.as_ref().map_or(0, |size| size.bytes),
            start: profile.start.clone(),
            make: Vec::new(),
            left_out,
        },
        unknown,
        sample: Sample::default(),
        sampled: 0,
        to_pack: 0,
    };
    settle(candidates, profile, &mut planned);
    Ok(planned)
}

/// What one source is, and the way to what is loaded.
fn look(found: &Found, profile: &Profile, setting: &Setting<'_>) -> Looked {
    let mut item = match locate::open(&found.address, "prepare", setting) {
        Ok(item) => item,
        Err(failure) if matches!(*failure.cause, Error::Cancelled) => return Looked::Stopped,
        Err(failure) if matches!(*failure.cause, Error::NotUnderstood { .. }) && !found.is_named => {
            return Looked::Nothing;
        }
        Err(failure) => return Looked::LeftOut(told(found.address.clone(), &failure)),
    };
    let title = match title_folder::of(&item, setting) {
        Ok(title) => title,
        Err(Error::Cancelled) => return Looked::Stopped,
        Err(error) => return Looked::LeftOut(told(found.address.clone(), &Failure::new("cannot prepare this", error))),
    };
    if let Some(title) = &title {
        item.opened.identity.title = title.title.clone();
        item.opened.identity.id = title.id.clone();
        // It is its files: an archive that they lie in is nothing that a machine loads.
        item.source = None;
    }
    let own = title.as_ref().and_then(|title| Platform::named(title.platform));
    if let Some(platform) = own {
        item.opened.identity.kind = format!("{} with a {} title", item.opened.identity.kind, platform.name);
    }
    let Some(platform) = own.or_else(|| Platform::of(&item)) else {
        if !found.is_named {
            return Looked::Nothing;
        }
        let kind = crate::failure::with_article(&item.opened.identity.kind);
        let (why, next) = (format!("{kind} is of no machine that profiles know"), None);
        return Looked::LeftOut(LeftOut { source: found.address.clone(), why, next });
    };
    let left = |why: String, next: Option<String>| Looked::LeftOut(LeftOut { source: item.address.clone(), why, next });
    let Some(rules) = profile.rules(platform) else {
        return left(format!("the profile \"{}\" takes nothing of {}", profile.name, platform.name), None);
    };
    let only = title.as_ref().and_then(|title| title.forms);
    if let Some(why) = title.and_then(|title| title.unfit) {
        let next = format!("decanter identify {} says what it can become", crate::quoted(&item.address));
        return left(format!("a folder laid out as a title, but {why}"), Some(next));
    }
    if let Some((why, next)) = unfit(&item) {
        return left(why, next);
    }
    match ways::best(&item, rules, only, profile.choose.first, setting) {
        Ok(way) => match candidate(&item, platform, way, profile, setting) {
            Ok(candidate) => Looked::Made(Box::new(candidate)),
            Err(failure) => Looked::LeftOut(told(item.address.clone(), &failure)),
        },
        Err(failure) if matches!(*failure.cause, Error::Cancelled) => Looked::Stopped,
        Err(failure) => Looked::LeftOut(told(item.address.clone(), &failure)),
    }
}

fn told(source: String, failure: &Failure) -> LeftOut {
    LeftOut { source, why: failure.cause.to_string(), next: failure.hint.clone() }
}

/// Why a source is not fit to be put on a machine, as far as opening it shows.
fn unfit(item: &Item) -> Option<(String, Option<String>)> {
    let source = crate::quoted(&item.shown);
    if item.unfinished.is_some() {
        return Some(("the dump is not finished".into(), Some("go on with \"decanter dump\"".into())));
    }
    let len = item.source.as_ref().map_or(0, |source| source.len());
    if let Some(promised) = item.opened.extent.promised_len.filter(|promised| *promised > len) {
        let missing = tell::size(promised - len);
        return Some((format!("it is cut short: {missing} are missing"), Some("copy or dump it again".into())));
    }
    let damage = item.notices().iter().find(|notice| notice.is_damage)?;
    Some((format!("it is damaged: {}", damage.text), Some(format!("decanter verify {source}"))))
}

fn candidate(
    item: &Item,
    platform: &'static Platform,
    way: Way,
    profile: &Profile,
    setting: &Setting<'_>,
) -> Result<Candidate, Failure> {
    let tags = Tags::of_item(item);
    let (file_bytes, modified) = file_of(&item.shown, setting)
        .map_err(|e| Failure::new(format!("cannot prepare \"{}\"", item.shown), e))?
        .unwrap_or_default();
    let identity = &item.opened.identity;
    let part = identity.belongs.as_ref().map(|b| format!("{:?}", b.part)).unwrap_or_default();
    let copy = Copy {
        tags: tags.clone(),
        apart: format!("{}/{part}", platform.id),
        id: identity.id.clone(),
        source: item.address.clone(),
    };
    let values = Values::of(item, tags, platform.id, &profile.choose.languages);
    Ok(Candidate {
        platform,
        way,
        title: values.title(),
        values,
        copy,
        bytes: match item.opened.holds.tracks.as_slice() {
            [] => item.source.as_ref().map_or_else(|| bytes_of_files(item), |source| source.len()),
            tracks => tracks.iter().map(|track| track.source.len()).sum(),
        },
        file_bytes,
        modified,
        titles: item.opened.holds.titles.clone(),
    })
}

/// Bytes of the files in a folder.
fn bytes_of_files(item: &Item) -> u64 {
    item.opened.holds.tree.iter().flat_map(|tree| tree.files()).map(|(_, file)| file.len).sum()
}

/// Chooses among copies, puts titles together, gives names, and leaves out what the card cannot hold.
fn settle(candidates: Vec<Candidate>, profile: &Profile, planned: &mut Planned) {
    let why = copies::left_out(&candidates.iter().map(|c| c.copy.clone()).collect::<Vec<_>>(), &profile.choose);
    let mut names = Names::default();
    let mut kept = Vec::new();
    for (candidate, why) in candidates.into_iter().zip(why) {
        match why {
            Some(why) => planned.plan.left_out.push(LeftOut { source: candidate.copy.source, why, next: None }),
            None => kept.push(candidate),
        }
    }
    let merged = together(&kept, profile, planned);
    for (at, candidate) in kept.into_iter().enumerate() {
        let Some(rules) = profile.rules(candidate.platform) else { continue };
        match merged.get(&at) {
            Some(Place::Head(family, form, more, bytes)) => {
                let mut make = make(&candidate, rules, profile, &mut names, Some(form), None);
                make.way = vec![MERGE.into(), (*form).into()];
                make.keeps = Keeps::EveryByte;
                // What is merged takes no options of a conversion.
                make.with.clear();
                make.source = candidate.copy.source;
                make.more.clone_from(more);
                (make.bytes, make.about_bytes) = (*bytes, *bytes);
                make.title = family.name.clone().unwrap_or(make.title);
                add(make, *bytes, planned);
            }
            Some(Place::Part) => {}
            None => {
                let way = &candidate.way;
                let fixed = way.is_fixed.then(|| names.claim(&rules.folder, &native::text(&way.place)));
                if fixed == Some(None) {
                    let place = native::text(&way.place);
                    let why = format!("another source becomes what the machine looks for in the same place, {place}");
                    planned.plan.left_out.push(LeftOut { source: candidate.copy.source, why, next: None });
                    continue;
                }
                let longest = candidate.way.longest;
                if let Some(sample) = candidate.way.sample {
                    planned.sampled += 1;
                    planned.sample.bytes += sample.bytes;
                    planned.sample.packed += sample.packed;
                    planned.sample.reading += sample.reading;
                    planned.sample.packing += sample.packing;
                    planned.to_pack += candidate.bytes;
                }
                let make = make(&candidate, rules, profile, &mut names, None, fixed.flatten());
                add(make, longest, planned);
            }
        }
    }
}

/// What a source is among those that become one file.
enum Place {
    /// The first of them: the family, the form, the further sources, the bytes of all.
    Head(Box<Family>, &'static str, Vec<More>, u64),
    Part,
}

/// Families whose members become one file, by the number of their candidate.
fn together(kept: &[Candidate], profile: &Profile, planned: &mut Planned) -> BTreeMap<usize, Place> {
    let mut roles = BTreeMap::new();
    let takes = |c: &Candidate| profile.rules(c.platform).filter(|r| r.together).and_then(merging_form);
    let members = kept.iter().enumerate().filter(|(_, c)| takes(c).is_some()).flat_map(|(number, c)| {
        c.titles.iter().map(move |title| Member {
            source: c.copy.source.clone(),
            number,
            name: Some(c.title.clone()),
            title: title.clone(),
        })
    });
    for family in families(members.collect()) {
        let chosen: Vec<&Member> = family.chosen().collect();
        if family.base.is_none()
            || chosen.len() < 2
            || chosen.iter().any(|m| m.number == chosen[0].number && m.source != chosen[0].source)
        {
            continue;
        }
        let mut numbers: Vec<usize> = chosen.iter().map(|m| m.number).collect();
        numbers.sort_unstable();
        numbers.dedup();
        let head = chosen[0].number;
        let Some(form) = takes(&kept[head]).filter(|_| numbers.len() > 1) else { continue };
        let seen = |member: &&Member| {
            let Candidate { file_bytes, modified, .. } = kept[member.number];
            More { source: member.source.clone(), file_bytes, modified }
        };
        let mut more: Vec<More> = chosen.iter().map(seen).collect();
        more.dedup_by(|one, other| one.source == other.source);
        more.remove(0);
        let bytes = numbers.iter().map(|n| kept[*n].bytes).sum();
        for member in family.superseded.iter().chain(&family.doubled) {
            if numbers.contains(&member.number) {
                continue;
            }
            let why = format!("{} is superseded, or there twice", member.what());
            planned.plan.left_out.push(LeftOut { source: member.source.clone(), why, next: None });
            roles.insert(member.number, Place::Part);
        }
        numbers.into_iter().for_each(|n| drop(roles.insert(n, Place::Part)));
        roles.insert(head, Place::Head(Box::new(family.clone()), form, more, bytes));
    }
    roles
}

/// The first form that titles are merged into.
fn merging_form(rules: &PlatformRules) -> Option<&'static str> {
    rules.forms.iter().find_map(|form| ["nsp", "xci"].into_iter().find(|id| id == form))
}

/// What is made of a candidate: of a form that its parts are merged into, or in a place that the machine looks for it in.
fn make(
    candidate: &Candidate,
    rules: &PlatformRules,
    profile: &Profile,
    names: &mut Names,
    form: Option<&str>,
    fixed: Option<String>,
) -> Make {
    let Candidate { way, values, .. } = candidate;
    let template = rules.template.as_deref().unwrap_or(&profile.names.template);
    let place = native::text(&way.place);
    let path = fixed.unwrap_or_else(|| {
        let extension = match form {
            Some(form) => format!(".{form}"),
            None if way.words.last().is_some_and(|w| w == ways::EXTRACT) => String::new(),
            None => {
                let name = place.rsplit('/').next().unwrap_or(&place);
                name.strip_prefix(&stem_of(name)).unwrap_or_default().to_owned()
            }
        };
        names.path(&rules.folder, template, &extension, values, &profile.names)
    });
    let target = way.words.last().and_then(|word| table::target(word));
    Make {
        source: way.source.clone(),
        more: Vec::new(),
        bytes: candidate.bytes,
        file_bytes: candidate.file_bytes,
        modified: candidate.modified,
        platform: candidate.platform.id.into(),
        title: candidate.title.clone(),
        way: way.words.clone(),
        with: target.map(|target| rules.options(target)).unwrap_or_default(),
        path,
        about_bytes: way.bytes,
        keeps: way.keeps,
        then: rules.then.clone(),
    }
}

/// Adds what is made, unless a file of it is longer than there can be.
fn add(make: Make, longest: u64, planned: &mut Planned) {
    match planned.plan.largest_file.filter(|most| longest > *most) {
        None => planned.plan.make.push(make),
        Some(most) => {
            let (len, most) = (tell::size(longest), tell::size(most));
            let splits = make.way.last().and_then(|word| table::target(word)).is_some_and(|t| t.has("split"));
            let next = splits
                .then(|| "set  with = { split = \"4GiB-1\" }  for its platform, if the machine joins parts".to_owned());
            let why = format!("{} would have {len}, a file there has {most} at most", name(&make.path));
            planned.plan.left_out.push(LeftOut { source: make.source, why, next });
        }
    }
}

fn name(path: &str) -> &str {
    Path::new(path).file_name().and_then(|n| n.to_str()).unwrap_or(path)
}
