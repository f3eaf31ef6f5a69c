//! What is there already: whether an earlier run is gone on with, and what a plan makes of it.

use super::map::{Map, State};
use super::plan::{Action, Plan};
use crate::grouped;
use decanter_core::pour::{self, Partial};
use decanter_core::{Error, Result};
use std::path::Path;

/// The map of an unfinished dump onto `target`, and whether there was one. With `restart`, an unfinished dump that a
/// map of ours describes is removed.
///
/// # Errors
/// [`Error::WrongDescription`] when it is of another disc; what reading the map fails with.
pub(super) fn map_of(target: &Path, plan: &Plan, sector_len: u64, restart: bool) -> Result<(Map, bool)> {
    let unfinished = Partial::path_of(target);
    let new = || (Map::new(plan.sectors, sector_len), false);
    let map_path = Map::path_of(target);
    let earlier = Map::load(&map_path)?.filter(|_| unfinished.symlink_metadata().is_ok());
    match earlier {
        Some(_) if restart => {
            pour::remove(&unfinished)?;
            pour::remove(&map_path)?;
            Ok(new())
        }
        Some(map) if map.sector_len != sector_len => Err(Error::WrongDescription {
            text: format!("the dump has sectors of {} bytes, the drive of {sector_len}", map.sector_len),
        }),
        Some(map) if map.sectors != plan.sectors => Err(Error::WrongDescription {
            text: format!(
                "this is another disc: the dump has {} sectors, the disc in the drive {}",
                grouped(map.sectors),
                grouped(plan.sectors)
            ),
        }),
        Some(map) => Ok((map, true)),
        None => Ok(new()),
    }
}

/// Makes a map follow a plan: what is to be filled is blank, unless it was read already; what was blank and is to be
/// read is open again.
pub(super) fn follow(map: &mut Map, plan: &Plan) {
    for region in &plan.region {
        let end = region.first + region.count;
        let opens = |state: State| match region.action {
            Action::Fill => (!state.is_content() && state != State::Blank).then_some(State::Blank),
            Action::Read => (state == State::Blank).then_some(State::Untried),
        };
        for run in map.runs().to_vec() {
            let (first, last) = (run.first.max(region.first), (run.first + run.count).min(end));
            if let Some(state) = opens(run.state).filter(|_| first < last) {
                map.set(first, last - first, state);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::plan::Region;
    use super::*;

    fn plan(regions: &[(u64, Action)]) -> Plan {
        let mut first = 0;
        let region = regions.iter().map(|&(count, action)| {
            first += count;
            Region { first: first - count, count, action }
        });
        let region: Vec<Region> = region.collect();
        Plan { sectors: first, region }
    }

    #[test]
    fn a_changed_plan_opens_what_is_to_be_read_and_keeps_what_was_read() {
        let mut map = Map::new(100, 2048);
        follow(&mut map, &plan(&[(40, Action::Fill), (60, Action::Read)]));
        assert_eq!((map.state_of(0), map.state_of(40)), (State::Blank, State::Untried));
        map.set(40, 30, State::Read);
        follow(&mut map, &plan(&[(20, Action::Fill), (30, Action::Read), (50, Action::Fill)]));
        let states = [0, 19, 20, 39, 40, 69, 70, 99].map(|s| map.state_of(s));
        use State::{Blank, Read, Untried};
        assert_eq!(states, [Blank, Blank, Untried, Untried, Read, Read, Blank, Blank]);
    }

    #[test]
    fn what_a_file_does_not_have_was_not_read() {
        let mut map = Map::new(100, 2048);
        map.set(0, 90, State::Read);
        map.set(10, 5, State::Missing);
        map.cut_to(50 * 2048 + 7);
        let states = [9, 10, 49, 50, 89, 99].map(|s| map.state_of(s));
        use State::{Missing, Read, Untried};
        assert_eq!(states, [Read, Missing, Read, Untried, Untried, Untried]);
    }

    #[test]
    fn an_earlier_run_is_gone_on_with_or_told() {
        let folder = tempfile::tempdir().unwrap();
        let target = folder.path().join("a.iso");
        let whole = Plan::whole(100);
        assert!(!map_of(&target, &whole, 2048, false).unwrap().1);
        Map::new(100, 2048).save(&Map::path_of(&target)).unwrap();
        assert!(!map_of(&target, &whole, 2048, false).unwrap().1, "a map alone is nothing to go on with");
        std::fs::write(Partial::path_of(&target), "x").unwrap();
        assert!(map_of(&target, &whole, 2048, false).unwrap().1);
        assert!(
            map_of(&target, &whole, 512, false).is_err() && map_of(&target, &Plan::whole(99), 2048, false).is_err()
        );
        assert!(!map_of(&target, &Plan::whole(99), 2048, true).unwrap().1);
        assert!(!Partial::path_of(&target).exists());
    }
}
