//! Containers that were opened on the way to something in them: most of the time what stands beside it is asked for next, and
//! what was packed together has to be unpacked from its beginning for each unless it goes on.

use decanter_core::opened::Identity;
use decanter_core::role::Role;
use decanter_core::tree::Tree;
use std::sync::{Arc, Mutex, PoisonError};

/// Containers that are kept open: what a crowd of workers is likely to be at.
const MOST: usize = 8;

/// A container that was opened.
pub(super) struct Container {
    /// What was opened for it: itself last, what it was packed in before.
    pub(super) kinds: Vec<Identity>,
    /// What it holds.
    pub(super) tree: Tree,
}

impl Container {
    /// Whether it holds something at `path`.
    pub(super) fn has(&self, path: &str) -> bool {
        self.tree.find(path.trim_matches('/')).is_some()
    }

    /// Whether it is worth it: of images every place is as near as any other. What was found through another has the
    /// address of that, and what is asked for next may be in that one.
    pub(super) fn may_be_kept(&self) -> bool {
        matches!(self.kinds.as_slice(), [only] if matches!(only.role, Role::Archive | Role::Wrapper))
    }
}

/// The containers that were opened last and their addresses, the latest at the end.
#[derive(Default)]
pub(crate) struct Containers(Mutex<Vec<(String, Arc<Container>)>>);

impl Containers {
    /// The one at this address, if it is still open.
    pub(super) fn find(&self, address: &str) -> Option<Arc<Container>> {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let place = kept.iter().position(|(own, _)| own == address)?;
        let found = kept.remove(place);
        kept.push(found.clone());
        Some(found.1)
    }

    /// Keeps one.
    pub(super) fn keep(&self, address: &str, container: &Arc<Container>) {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        // Of two that opened the same at once, the later one stays.
        kept.retain(|(own, _)| own != address);
        if kept.len() == MOST {
            kept.remove(0);
        }
        kept.push((address.to_owned(), container.clone()));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_latest_are_kept() {
        let kept = Containers::default();
        let container = Arc::new(Container { kinds: Vec::new(), tree: Tree::default() });
        let addresses: Vec<String> = (0..MOST).map(|number| number.to_string()).collect();
        addresses.iter().for_each(|address| kept.keep(address, &container));
        assert!(kept.find("0").is_some(), "asked for last from now on");
        kept.keep("new", &container);
        kept.keep("new", &container);
        let there = |address: &str| kept.find(address).is_some();
        assert_eq!(["0", "1", "2", "new"].map(there), [true, false, true, true]);
        assert!(!container.has("x") && !container.may_be_kept());
    }
}
