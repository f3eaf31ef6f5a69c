//! Profiles that ship, by kinds of machine. They are examples as much as they are of use: each may be taken for one of one's own.

/// All of them.
static ALL: [(&str, &str); 6] = [
    ("handheld", include_str!("shipped/handheld.toml")),
    ("television", include_str!("shipped/television.toml")),
    ("psp", include_str!("shipped/psp.toml")),
    ("ps3", include_str!("shipped/ps3.toml")),
    ("drive-c64", include_str!("shipped/drive-c64.toml")),
    ("cartridges", include_str!("shipped/cartridges.toml")),
];

/// All of them: name and text.
pub fn all() -> impl Iterator<Item = (&'static str, &'static str)> {
    ALL.iter().copied()
}

/// The text of the one with this name.
pub(super) fn named(name: &str) -> Option<&'static str> {
    all().find(|(known, _)| *known == name).map(|(_, text)| text)
}
