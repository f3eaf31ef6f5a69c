//! Whether layers belong together, and in which order.

use super::{Layer, LayerPart, rank, system_version};
use crate::quoted;
use serde::Serialize;

/// All layers of a title.
#[derive(Debug, Clone, Serialize)]
pub struct LayerSet {
    /// Title id.
    pub title_id: String,
    /// What the title is called; empty where no layer says it.
    pub title: String,
    /// The layers, in the order in which they go over each other.
    pub layers: Vec<Layer>,
    /// The newest version among them.
    pub latest: String,
    /// What is missing, or does not fit.
    pub faults: Vec<String>,
    /// What else is to be said.
    pub remarks: Vec<String>,
    /// The command that makes one of them, where they fit.
    pub next: Option<String>,
}

/// Why a layer does not go over a base; `None` where it does.
pub(crate) fn fits(base: &Layer, own: &Layer) -> Option<String> {
    let other = |name: &str, own: &str, base: &str| format!("its {name} is {own}, that of the base {base}");
    if let (LayerPart::Other, Some(remark)) = (own.part, own.remarks.first()) {
        return Some(remark.clone());
    }
    if own.part == LayerPart::Other {
        return Some("it is an add-on, which stays a package of its own".into());
    }
    if !own.title_id.is_empty() && own.title_id != base.title_id {
        return Some(format!("{}: it is of another title", other("title id", &own.title_id, &base.title_id)));
    }
    if !own.content_id.is_empty() && own.content_id != base.content_id {
        return Some(format!(
            "{}: it is of another region or edition, and a console takes it for another title",
            other("content id", &own.content_id, &base.content_id)
        ));
    }
    if own.is_delta {
        return Some(
            "it holds changes alone, made for one version of the files, and no whole files: the update with all of them is needed"
                .into(),
        );
    }
    None
}

/// What is wrong with the order of layers that fit the base: an older one over a newer one, or one for another version.
pub(crate) fn fault_of_order(layers: &[Layer]) -> Option<String> {
    let mut newest = layers.first()?;
    let mut versions = vec![newest.app_version.as_str()];
    for own in &layers[1..] {
        if !own.made_for.is_empty() && !versions.contains(&own.made_for.as_str()) {
            return Some(format!(
                "\"{}\" was made for version {}, and there is {}",
                own.source,
                own.made_for,
                versions.join(", ")
            ));
        }
        if own.part == LayerPart::Update && own.rank() != 0 && own.rank() < newest.rank() {
            return Some(format!(
                "\"{}\" ({}) would go over \"{}\" ({}), which is newer: give it before that, or leave it out",
                own.source,
                own.what(),
                newest.source,
                newest.what()
            ));
        }
        if own.part == LayerPart::Update {
            newest = own;
            versions.push(&own.app_version);
        }
    }
    None
}

/// Puts layers together by their title ids; replacements that say none go to the only title that there is.
pub fn sets(layers: Vec<Layer>, options: &str) -> Vec<LayerSet> {
    let mut titles: Vec<String> = Vec::new();
    for layer in layers.iter().filter(|l| l.part != LayerPart::Replacements && !l.title_id.is_empty()) {
        if !titles.contains(&layer.title_id) {
            titles.push(layer.title_id.clone());
        }
    }
    let of = |title_id: &String| {
        let is_alone = titles.len() == 1;
        let own = |l: &&Layer| l.title_id == *title_id || l.title_id.is_empty() && is_alone;
        set(title_id, layers.iter().filter(own).cloned().collect(), options)
    };
    let mut all: Vec<LayerSet> = titles.iter().map(of).collect();
    let lost = layers.iter().filter(|l| l.part == LayerPart::Replacements && !titles.contains(&l.title_id));
    for layer in lost.filter(|l| !l.title_id.is_empty() && !titles.is_empty()) {
        all.push(set(&layer.title_id, vec![layer.clone()], options));
    }
    all.retain(|set| set.layers.len() > 1 || set.layers.iter().any(|l| l.part != LayerPart::Base));
    all
}

fn set(title_id: &str, mut layers: Vec<Layer>, options: &str) -> LayerSet {
    layers.sort_by_key(|l| (l.part, l.rank(), l.source.clone()));
    let title = layers.iter().find(|l| !l.title.is_empty()).map(|l| l.title.clone()).unwrap_or_default();
    let (mut faults, mut remarks) = (Vec::new(), Vec::new());
    let base = layers.iter().find(|l| l.part == LayerPart::Base).cloned();
    let newest = layers.iter().max_by_key(|l| l.rank()).map(|l| l.app_version.clone()).unwrap_or_default();
    let mut chosen: Vec<Layer> = base.iter().cloned().collect();
    match &base {
        None => faults.push("the base is missing".into()),
        Some(base) => {
            let newest_update = layers
                .iter()
                .filter(|l| l.part == LayerPart::Update && fits(base, l).is_none())
                .max_by_key(|l| l.rank());
            for own in layers.iter().filter(|l| *l != base) {
                match (own.part, fits(base, own)) {
                    (LayerPart::Other, Some(why)) if !own.remarks.is_empty() => {
                        faults.push(format!("\"{}\" does not fit: {why}", own.source));
                    }
                    (LayerPart::Other, _) => {
                        remarks.push(format!("\"{}\" is an add-on: it is installed beside the game", own.source))
                    }
                    (_, Some(why)) => faults.push(format!("\"{}\" does not fit: {why}", own.source)),
                    (LayerPart::Base, None) => {
                        remarks.push(format!("\"{}\" is a further base, {}", own.source, own.app_version))
                    }
                    (LayerPart::Update, None) if newest_update.is_some_and(|newest| newest.source != own.source) => {
                        remarks.push(format!("\"{}\" ({}) is superseded", own.source, own.what()));
                    }
                    (_, None) => {
                        if own.part == LayerPart::Replacements && own.rank() != 0 && rank(&newest) != own.rank() {
                            remarks.push(format!(
                                "\"{}\" is for version {}, the newest here is {newest}",
                                own.source, own.app_version
                            ));
                        }
                        chosen.push(own.clone());
                    }
                }
            }
        }
    }
    faults.extend(fault_of_order(&chosen));
    let needed = layers.iter().filter(|l| l.part != LayerPart::Other).map(|l| l.system).max().unwrap_or(0);
    let last = chosen.iter().rev().map(|l| l.system).find(|s| *s > 0).unwrap_or(needed);
    if last < needed {
        remarks.push(format!(
            "the last of them needs system {}, others {}",
            system_version(last),
            system_version(needed)
        ));
    }
    let next = (faults.is_empty() && chosen.len() > 1).then(|| {
        let sources: Vec<String> = chosen.iter().map(|l| quoted(&l.source)).collect();
        format!("decanter merge {}{options}", sources.join(" "))
    });
    LayerSet { title_id: title_id.to_owned(), title, layers, latest: newest, faults, remarks, next }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn layer(source: &str, part: LayerPart, version: &str) -> Layer {
        Layer {
            source: source.into(),
            part,
            title: "Pier Nine".into(),
            title_id: "DCNT40001".into(),
            content_id: "UP0000-DCNT40001_00-PIERNINE00000000".into(),
            app_version: version.into(),
            made_for: String::new(),
            system: 0x0505_0000,
            is_delta: false,
            files: 3,
            remarks: Vec::new(),
        }
    }

    #[test]
    fn layers_of_a_title_are_put_in_their_order() {
        let mut fix = layer("fix", LayerPart::Replacements, "");
        fix.title_id = String::new();
        fix.content_id = String::new();
        let update = layer("update", LayerPart::Update, "01.08");
        let older = layer("older", LayerPart::Update, "01.02");
        let all = sets(vec![fix, update, older, layer("base", LayerPart::Base, "01.00")], "");
        let [set] = &all[..] else { panic!("{all:?}") };
        assert_eq!(set.next.as_deref(), Some("decanter merge base update fix"));
        assert_eq!((set.latest.as_str(), set.faults.len()), ("01.08", 0));
        assert!(set.remarks.iter().any(|r| r.contains("\"older\" (update 01.02) is superseded")));
    }

    #[test]
    fn what_does_not_fit_is_told() {
        let base = layer("base", LayerPart::Base, "01.00");
        let changed = |change: &dyn Fn(&mut Layer)| {
            let mut own = layer("update", LayerPart::Update, "01.08");
            change(&mut own);
            fits(&base, &own).unwrap_or_default()
        };
        assert_eq!(changed(&|_| ()), "");
        assert!(changed(&|l| l.title_id = "DCNT40002".into()).contains("another title"));
        assert!(changed(&|l| l.content_id = "EP0000-DCNT40001_00-PIERNINE00000000".into()).contains("another region"));
        assert!(changed(&|l| l.is_delta = true).contains("changes alone"));
        let mut for_other = layer("update", LayerPart::Update, "01.08");
        for_other.made_for = "01.05".into();
        let told = fault_of_order(&[base.clone(), for_other.clone()]).unwrap();
        assert!(told.contains("made for version 01.05, and there is 01.00"), "{told}");
        let between = layer("between", LayerPart::Update, "01.05");
        assert_eq!(fault_of_order(&[base.clone(), between, for_other]), None);
        let told = fault_of_order(&[
            base.clone(),
            layer("a", LayerPart::Update, "01.08"),
            layer("b", LayerPart::Update, "01.02"),
        ]);
        assert!(told.unwrap().contains("would go over"));
        let mut odd = layer("odd", LayerPart::Other, "01.08");
        let all = sets(vec![base.clone(), odd.clone()], "");
        assert!(all[0].faults.is_empty() && all[0].remarks[0].contains("is an add-on"));
        odd.remarks.push("it has no CATEGORY".into());
        assert!(sets(vec![base.clone(), odd], "")[0].faults[0].contains("it has no CATEGORY"));
        let all = sets(vec![layer("update", LayerPart::Update, "01.08")], "");
        assert_eq!((all[0].faults.clone(), all[0].next.clone()), (vec!["the base is missing".to_owned()], None));
    }
}
