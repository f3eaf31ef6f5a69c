//! Any set of parts of a title, in any order, merged as a package or as a card, and taken apart again.

use crate::common::typed;
use decanter_demo::hybrid::{self, COURIER, Crypto, Files, Wish};
use decanter_jobs::merge::{Form, Options, merge, unmerge};
use decanter_jobs::{Answer, Setting};
use proptest::prelude::*;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

/// Base, two updates, two add-ons: in both forms of encryption.
fn parts() -> &'static [(&'static str, Files)] {
    static PARTS: OnceLock<Vec<(&'static str, Files)>> = OnceLock::new();
    PARTS.get_or_init(|| {
        let wish = Wish {
            title_id: COURIER,
            base: COURIER,
            version: 0,
            crypto: Crypto::KeyArea,
            generation: 3,
            names: &[(0, "Kelp Courier")],
            shown: "1.0.0",
            is_for_card: false,
        };
        let update = |release: u32, crypto| Wish { title_id: COURIER | 0x800, version: release << 16, crypto, ..wish };
        let extra = |number: u64, crypto| Wish { title_id: COURIER + 0x1000 + number, names: &[], crypto, ..wish };
        vec![
            ("base", hybrid::base(&wish, 5000).unwrap()),
            ("update 1", hybrid::update(&update(1, Crypto::TitleKey), 5000).unwrap()),
            ("update 2", hybrid::update(&update(2, Crypto::KeyArea), 5000).unwrap()),
            ("add-on 1", hybrid::add_on(&extra(1, Crypto::KeyArea), 0).unwrap()),
            ("add-on 2", hybrid::add_on(&extra(2, Crypto::TitleKey), 0).unwrap()),
        ]
    })
}

fn setting(folder: &Path) -> Setting<'static> {
    let mut setting = Setting::new(&());
    setting.key_places.push(folder.join("museum.keys"));
    setting
}

fn merged(folder: &Path, sources: &[PathBuf], form: Form, options: &Options, to: &str) -> Vec<u8> {
    let sources: Vec<String> = sources.iter().map(|p| typed(p)).collect();
    let target = folder.join(to);
    let (report, answer) = merge(&sources, form, Some(&target), options, &setting(folder)).unwrap();
    assert!(answer == Answer::Yes && report.results.len() == 1);
    fs::read(target).unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    #[test]
    fn any_set_in_any_order_is_one_file_and_comes_apart_again(
        order in Just((0..5usize).collect::<Vec<_>>()).prop_shuffle(),
        kept in 1usize..=5,
        is_card in any::<bool>(),
        standard_crypto in any::<bool>(),
        lowest_system in any::<bool>(),
    ) {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path();
        fs::write(root.join("museum.keys"), hybrid::keys::list()).unwrap();
        let mut chosen: Vec<usize> = order.into_iter().take(kept).collect();
        let has_base = chosen.contains(&0);
        let sources = |chosen: &[usize]| -> Vec<PathBuf> {
            chosen.iter().map(|i| {
                let path = root.join(format!("{}.nsp", parts()[*i].0));
                fs::write(&path, hybrid::package(&parts()[*i].1)).unwrap();
                path
            }).collect()
        };
        let form = if is_card { Form::Xci } else { Form::Nsp };
        let options = Options { without_base: !has_base, standard_crypto, lowest_system, prove: true, ..Options::default() };
        let one = merged(root, &sources(&chosen), form, &options, "one");
        chosen.sort_unstable();
        let other = merged(root, &sources(&chosen), form, &options, "other");
        prop_assert!(one == other, "the order of sources counts for nothing");
        let (report, answer) = unmerge(&typed(&root.join("one")), Some(&root.join("apart")), &setting(root)).unwrap();
        prop_assert_eq!(answer, Answer::Yes);
        let apart: Vec<PathBuf> = report.results.iter().map(|r| r.path.clone().unwrap()).collect();
        // Of two updates the newer one is taken.
        let both_updates = chosen.contains(&1) && chosen.contains(&2);
        prop_assert_eq!(apart.len(), chosen.len() - usize::from(both_updates));
        let again = merged(root, &apart, form, &Options { without_base: !has_base, ..Options::default() }, "again");
        prop_assert!(again == one, "there and back");
    }
}

#[test]
fn a_source_is_never_the_target() {
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path();
    fs::write(root.join("museum.keys"), hybrid::keys::list()).unwrap();
    let base = root.join("base.nsp");
    fs::write(&base, hybrid::package(&parts()[0].1)).unwrap();
    let clean = fs::read(&base).unwrap();
    let mut setting = setting(root);
    setting.replace = true;
    let told = merge(&[typed(&base)], Form::Nsp, Some(&base), &Options::default(), &setting).unwrap_err();
    assert!(told.to_string().contains("is one of the files that are read"), "{told}");
    assert!(fs::read(&base).unwrap() == clean);
}
