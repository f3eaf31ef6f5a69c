//! A catalogue at a server is asked the same as the embedded one, and answers the same.

use super::{AT_SERVER, Collection, checks, jobs, order, postgres, repacks, report, scans, sets};
use crate::support::{command, folder, run, told};

/// Does a test again, with its cellar at a server; skipped, loudly, where there is none.
fn at_server(test: fn()) {
    if postgres::database().is_some() {
        AT_SERVER.set(true);
        test();
    }
}

macro_rules! again {
    ($($module:ident { $($name:ident)* })*) => { $( mod $module { $(
        #[test]
        fn $name() {
            super::at_server(super::super::$module::$name);
        }
    )* } )* };
}

mod again {
    use super::at_server;

    again! {
        scans {
            only_what_has_changed_is_read_again
            a_place_that_is_not_there_keeps_its_files
            a_folder_of_a_place_belongs_to_it
            what_is_in_archives_is_looked_through
            others_ask_while_a_scan_runs
            a_scan_that_is_stopped_keeps_what_it_has
        }
        checks {
            rot_is_found_told_again_and_mended
            the_oldest_checks_come_first
        }
        sets {
            everything_is_of_one_kind
            a_set_comes_in_versions
            a_set_that_is_broken_changes_nothing
            headers_tracks_and_compressed_images_are_looked_through
        }
        jobs {
            a_chain_of_jobs_leads_back_to_the_first_source
        }
        order {
            a_plan_is_done_and_taken_back
            an_original_goes_once_something_makes_it_again
        }
        repacks {
            archives_are_taken_apart_and_put_together_again
            files_become_an_archive_for_each_game
        }
        report {
            a_page_needs_nothing_else
        }
    }
}

#[test]
fn a_cellar_at_a_server_is_made_once() {
    let Some(url) = postgres::database() else { return };
    let folder = folder();
    let at = |words: &[&str]| run(folder.path(), words);
    at(&["cellar", "status", "--cellar", &url]).expect(5).says(&format!("decanter cellar new {url}"));
    at(&["cellar", "new", &url]).expect(0);
    at(&["cellar", "new", &url]).expect(2).says("already exists").says(&url);
    at(&["cellar", "status", "--cellar", &url]).expect(0);
    std::fs::write(folder.path().join("own.toml"), format!("cellar = \"{url}\"\n")).unwrap();
    at(&["cellar", "status", "--config", "own.toml"]).expect(0);
    at(&["cellar", "status", "--cellar", "postgres://keeper@127.0.0.1:1/cellar"]).expect(5);
    at(&["cellar", "status", "--cellar", "postgres://keeper@127.0.0.1:port/cellar"]).expect(2).says("no address");
    let nobody = url.replace("keeper", "nobody_here");
    at(&["cellar", "status", "--cellar", &nobody]).expect(4).says("refuses");
}

#[test]
fn passwords_are_neither_told_nor_recorded() {
    if postgres::database().is_none() {
        return;
    }
    AT_SERVER.set(true);
    let own = Collection::of(&[("lane.bin", b"the tide is in, the tide is in, the tide is in")]);
    let with_password = own.cellar().replace("keeper@", "keeper:salt-and-kelp@");
    let report = run(own.root(), &["cellar", "status", "--cellar", &with_password, "--json"]).expect(0);
    assert!(!report.out.contains("salt-and-kelp"), "{report:?}");
    let words = ["convert", "shelf/lane.bin", "--to", "zst", "-o", "lane.zst", "--cellar", &with_password];
    run(own.root(), &words).expect(0);
    let history = own.run(&["history", "lane.zst", "--json"]).expect(0);
    assert!(history.out.contains("--cellar") && !history.out.contains("salt-and-kelp"), "{history:?}");
    // By the variable that such programs share.
    let mut by_variable = command(own.root());
    by_variable.env("PGPASSWORD", "salt-and-kelp").args(["cellar", "status", "--cellar", own.cellar()]);
    told(by_variable.output().unwrap()).expect(0);
}
