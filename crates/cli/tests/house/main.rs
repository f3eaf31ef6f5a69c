//! The shape of the house: which file takes from which, read from the imports and paths in the code. No two files import each
//! other in a circle, and no arrow runs from a lower floor to a higher one. A parent and its own child are one room of two.

mod imports;

use imports::House;

/// The floors, from the ground up; what stands on one line knows nothing of its neighbours.
const FLOORS: [&[&str]; 4] = [
    &["decanter_core"],
    &["decanter_formats", "decanter_cellar", "decanter_far"],
    &["decanter_jobs", "decanter_demo"],
    &["decanter"],
];

fn floor(krate: &str) -> usize {
    FLOORS.iter().position(|f| f.contains(&krate)).unwrap_or_else(|| panic!("{krate} stands on no floor"))
}

#[test]
fn no_files_import_each_other_in_a_circle() {
    let house = House::read();
    let circles = house.circles();
    let told: Vec<String> = circles.iter().map(|circle| house.describe(circle)).collect();
    assert!(circles.is_empty(), "{} circles:\n{}", circles.len(), told.join("\n"));
}

#[test]
fn every_arrow_runs_down() {
    let house = House::read();
    let upward = |from: &str, to: &str| from != to && floor(from) <= floor(to);
    let told: Vec<String> = house
        .arrows()
        .filter(|a| upward(house.krate(a.from), house.krate(a.to)))
        .map(|a| format!("{} -> {}: {}", house.path(a.from), house.path(a.to), a.name))
        .collect();
    assert!(told.is_empty(), "{}", told.join("\n"));
}

#[test]
fn the_reader_of_imports_sees_what_there_is() {
    let house = House::read();
    assert!(house.files() > 250, "{}", house.files());
    // Named in a list, through a re-export, and in the middle of an expression.
    assert!(house.takes("jobs/src/extract/mod.rs", "core/src/tree.rs"));
    assert!(house.takes("cli/src/main.rs", "cli/src/config.rs"));
    let made = House::of(&[
        ("decanter_core", "core/src/lib.rs", "pub mod a;\npub mod b;\npub use a::One;\n"),
        ("decanter_core", "core/src/a.rs", "use crate::b::Two; /* crate::nothing */ pub struct One;\n"),
        ("decanter_core", "core/src/b.rs", "fn f() -> crate::One { \"crate::a\"; todo() }\npub struct Two;\n"),
        ("decanter_jobs", "jobs/src/lib.rs", "use decanter_core::{One, b::{self, Two as Three}};\n"),
    ]);
    assert!(made.takes("core/src/a.rs", "core/src/b.rs") && made.takes("core/src/b.rs", "core/src/a.rs"));
    assert!(made.takes("jobs/src/lib.rs", "core/src/a.rs") && made.takes("jobs/src/lib.rs", "core/src/b.rs"));
    assert_eq!(made.circles().len(), 1);
    assert_eq!(made.circles()[0].len(), 2);
}
