//! The jobs, called as the command line calls them, on files in temporary folders.

mod common;
mod damage;
mod dumps;
mod extracts;
mod mutants;
mod patches;
mod places;
mod repairs;
mod stores;
mod targets;
mod titles;
mod verdicts;
