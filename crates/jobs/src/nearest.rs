//! What was meant by a word that is nearly one of those that are known.

/// The word that is nearest to `typed`, if one is near enough that it may be a slip.
pub fn nearest<'a>(typed: &str, known: impl Iterator<Item = &'a str>) -> Option<&'a str> {
    let typed = typed.to_lowercase();
    let most = (typed.chars().count() / 3).max(1);
    let distances = known.map(|word| (strsim::osa_distance(&typed, &word.to_lowercase()), word));
    distances.filter(|(distance, _)| *distance <= most).min_by_key(|(distance, _)| *distance).map(|(_, word)| word)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn slips_are_understood_and_other_words_are_not() {
        let known = ["iso", "zst", "chd", "cd-raw", "xdvdfs"];
        let found = |typed: &str| nearest(typed, known.iter().copied());
        assert_eq!(
            (found("zts"), found("ISI"), found("xvdfs"), found("cdraw")),
            (Some("zst"), Some("iso"), Some("xdvdfs"), Some("cd-raw"))
        );
        assert_eq!((found("nothing"), found("")), (None, None));
    }
}
