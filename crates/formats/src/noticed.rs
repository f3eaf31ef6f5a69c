//! What is noticed on a volume: a damaged one may have millions of faults, and nobody reads them all.

use decanter_core::Notice;

/// Notices that are told one by one.
const MOST: usize = 20;

/// What was noticed, the first of it word by word.
#[derive(Default)]
pub(crate) struct Noticed {
    told: Vec<Notice>,
    count: usize,
}

impl Noticed {
    /// Notes damage.
    pub(crate) fn note(&mut self, text: impl Into<String>) {
        self.count += 1;
        if self.count <= MOST {
            self.told.push(Notice::damage(text));
        }
    }

    /// Notes something that is no damage.
    pub(crate) fn remark(&mut self, text: impl Into<String>) {
        self.told.push(Notice::new(text));
    }

    /// All of it, and how much more there was.
    pub(crate) fn into_notices(mut self) -> Vec<Notice> {
        let more = self.count.saturating_sub(MOST);
        if more > 0 {
            let s = if more == 1 { "" } else { "s" };
            self.told.push(Notice::damage(format!("and {more} more fault{s} like these")));
        }
        self.told
    }
}

/// What was found at numbered places, the first of it word by word; `what` they are is for how many more there were.
pub(crate) fn first_of(mut found: Vec<(u64, String)>, what: &str) -> Vec<String> {
    found.sort();
    let more = found.len().saturating_sub(MOST);
    let mut words: Vec<String> = found.into_iter().take(MOST).map(|(_, why)| why).collect();
    if more > 0 {
        words.push(format!("and {more} more {what}{}", if more == 1 { "" } else { "s" }));
    }
    words
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_are_told_and_the_others_counted() {
        let told = |count: usize| {
            let mut noticed = Noticed::default();
            noticed.remark("an old volume");
            (0..count).for_each(|n| noticed.note(format!("fault {n}")));
            noticed.into_notices().into_iter().map(|n| n.text).collect::<Vec<_>>()
        };
        assert_eq!(told(0), ["an old volume"]);
        assert_eq!(told(MOST).len(), MOST + 1);
        assert_eq!(told(MOST + 1).last().unwrap(), "and 1 more fault like these");
        assert_eq!(told(MOST + 5).last().unwrap(), "and 5 more faults like these");
    }
}
