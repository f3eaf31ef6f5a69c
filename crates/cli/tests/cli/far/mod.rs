//! Sources and outputs that are not on this machine, at servers of our own on loopback.

mod bucket;
mod objects;
mod server;
mod web;
