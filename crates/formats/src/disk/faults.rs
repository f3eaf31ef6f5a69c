//! Faults of one kind, the first of which is told and the others counted: a damaged volume may have millions.

use decanter_core::Result;
use decanter_core::error::Blame;
use decanter_core::seal::Settled;

/// What of one kind does not hold.
#[derive(Debug, Default, Clone)]
pub(super) struct Faults {
    first: Option<String>,
    count: u64,
}

impl Faults {
    pub fn note(&mut self, told: impl FnOnce() -> String) {
        self.first.get_or_insert_with(told);
        self.count += 1;
    }

    /// Notes what reading failed with, if the volume is to blame for it.
    pub fn keep<T>(&mut self, result: Result<T>, of: impl FnOnce() -> String) -> Result<Option<T>> {
        match result {
            Ok(value) => Ok(Some(value)),
            Err(e) if e.blame() == Blame::Source => {
                self.note(|| format!("{}: {e}", of()));
                Ok(None)
            }
            Err(e) => Err(e),
        }
    }

    pub fn settle(self, name: &str, matters: &'static str) -> Settled {
        match (self.first, self.count) {
            (None, _) => Settled::holds(name),
            (Some(only), 1) => Settled::fails(name, only, matters),
            (Some(first), n) => Settled::fails(name, format!("{first}; and {} more like it", n - 1), matters),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use decanter_core::Error;

    #[test]
    fn the_first_is_told_and_the_others_are_counted() {
        assert_eq!(Faults::default().settle("a", "b"), Settled::holds("a"));
        let mut faults = Faults::default();
        for n in 1..=3 {
            faults.note(|| format!("number {n}"));
        }
        assert_eq!(faults.settle("a", "b").note.unwrap(), "number 1; and 2 more like it");
    }

    #[test]
    fn only_what_the_volume_is_to_blame_for_is_kept() {
        let mut faults = Faults::default();
        let torn: Result<()> = Err(Error::Unreadable { why: "torn".into() });
        assert_eq!(faults.keep(torn, || "a record".into()).unwrap(), None);
        assert!(faults.keep::<()>(Err(Error::Cancelled), || "a record".into()).is_err());
        assert_eq!(faults.keep(Ok(5), || "a record".into()).unwrap(), Some(5));
        assert!(faults.settle("records", "").note.unwrap().starts_with("a record: "));
    }
}
