//! From what was found to one word: how good a source is.

use serde::Serialize;

/// The answer to "is it what it should be?".
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Verdict {
    /// Everything that is described is as described.
    Match,
    /// Digests that it carries of its own bytes hold.
    Sound,
    /// Everything could be read; nothing proves the content.
    Readable,
    /// There is nothing that could be checked.
    Nothing,
    /// Something is not as described.
    Differs,
    /// Something is missing at its end.
    Incomplete,
    /// Its own structure or its own digests are broken.
    Damaged,
}

impl Verdict {
    /// Whether nothing is wrong, as far as was looked.
    pub fn is_good(self) -> bool {
        matches!(self, Self::Match | Self::Sound | Self::Readable)
    }
}

/// What was found out about a source, as far as it decides how good it is. Of those that are bad, the first in this order
/// decides.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Finding {
    /// What it was taken out of does not hold: nothing is known of what was packed.
    Tainted,
    /// It ends before what its headers, or its description, say.
    Short,
    /// A digest of its own does not hold, or something of it cannot be read.
    Broken,
    /// A dump of which sectors were never read.
    Unfinished,
    /// It is not as described, or has not the checksums that a game says of itself.
    Differs,
    /// Damage was noticed on the way.
    Noticed,
    /// It says what others should be, and nothing proves itself.
    AboutOthers,
    /// There was nothing to check.
    Empty,
    /// Something in it has digests, or should have, that could not be tried.
    Untried,
    /// Something that is described could not be compared.
    Unproven,
    /// What is described is as described.
    Described,
    /// A digest of its own holds.
    Proven,
}

/// The one word for all of it. Nothing is better than what was compared.
pub(super) fn verdict(findings: impl IntoIterator<Item = Finding>) -> Verdict {
    let Some(decides) = findings.into_iter().min() else { return Verdict::Readable };
    match decides {
        Finding::Tainted | Finding::Broken | Finding::Noticed => Verdict::Damaged,
        Finding::Short | Finding::Unfinished => Verdict::Incomplete,
        Finding::Differs => Verdict::Differs,
        Finding::AboutOthers | Finding::Empty => Verdict::Nothing,
        Finding::Untried => Verdict::Readable,
        Finding::Unproven | Finding::Proven => Verdict::Sound,
        Finding::Described => Verdict::Match,
    }
}

/// Findings, each with what to do about it.
#[derive(Debug, Default)]
pub(super) struct Findings(Vec<(Finding, Option<String>)>);

impl Findings {
    /// Adds one about which there is nothing more to do.
    pub(super) fn add(&mut self, finding: Finding) {
        self.0.push((finding, None));
    }

    /// Adds one with what to do next if it decides.
    pub(super) fn next(&mut self, finding: Finding, next: impl Into<String>) {
        self.0.push((finding, Some(next.into())));
    }

    pub(super) fn has(&self, finding: Finding) -> bool {
        self.0.iter().any(|(f, _)| *f == finding)
    }

    pub(super) fn verdict(&self) -> Verdict {
        verdict(self.0.iter().map(|(f, _)| *f))
    }

    /// What to do about the finding that decides: of several alike, the first one's.
    pub(super) fn advice(&self) -> Option<&String> {
        self.0.iter().min_by_key(|(f, _)| *f).and_then(|(_, next)| next.as_ref())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const ALL: [(Finding, Verdict); 12] = [
        (Finding::Tainted, Verdict::Damaged),
        (Finding::Short, Verdict::Incomplete),
        (Finding::Broken, Verdict::Damaged),
        (Finding::Unfinished, Verdict::Incomplete),
        (Finding::Differs, Verdict::Differs),
        (Finding::Noticed, Verdict::Damaged),
        (Finding::AboutOthers, Verdict::Nothing),
        (Finding::Empty, Verdict::Nothing),
        (Finding::Untried, Verdict::Readable),
        (Finding::Unproven, Verdict::Sound),
        (Finding::Described, Verdict::Match),
        (Finding::Proven, Verdict::Sound),
    ];

    #[test]
    fn each_finding_by_itself_has_its_word() {
        for (finding, word) in ALL {
            assert_eq!(verdict([finding]), word, "{finding:?}");
        }
        assert_eq!(verdict([]), Verdict::Readable, "nothing proves the content");
    }

    proptest! {
        /// Nothing that is good outweighs something bad, in whatever order it was found.
        #[test]
        fn one_bad_finding_is_enough(found in proptest::collection::vec(0usize..12, 1..8)) {
            let findings: Vec<Finding> = found.iter().map(|i| ALL[*i].0).collect();
            let is_good = findings.iter().all(|f| *f >= Finding::Untried);
            prop_assert_eq!(verdict(findings.iter().copied()).is_good(), is_good);
            prop_assert_eq!(verdict(findings.iter().rev().copied()), verdict(findings.iter().copied()));
            // MATCH only if everything that is described was compared.
            let is_match = is_good
                && findings.contains(&Finding::Described)
                && !findings.iter().any(|f| matches!(f, Finding::Untried | Finding::Unproven));
            prop_assert_eq!(verdict(findings) == Verdict::Match, is_match);
        }
    }

    #[test]
    fn what_to_do_next_is_that_of_the_finding_that_decides() {
        let mut findings = Findings::default();
        findings.add(Finding::Proven);
        assert_eq!((findings.verdict(), findings.advice()), (Verdict::Sound, None));
        findings.next(Finding::Differs, "compare");
        findings.next(Finding::Broken, "dump again");
        findings.next(Finding::Broken, "copy again");
        assert_eq!(findings.advice().unwrap(), "dump again");
    }
}
