//! Whole shows: the built `waverantd` on loopback, real sockets, stand-ins for encoder and
//! platforms, real MariaDB.
#![allow(clippy::unwrap_used, clippy::expect_used, reason = "a test stops at the first surprise")]

mod api;
mod bad_input;
mod beep_and_flash;
mod browser;
mod capture;
mod command_line;
mod dialects;
mod endings;
mod enhanced;
mod faults;
mod findings;
mod full_disk;
mod house;
mod kill;
mod library;
mod links;
mod memory;
mod monitoring;
mod object_storage;
mod own_database;
mod pages;
mod platforms;
mod play;
mod published;
mod publisher;
mod recordings;
mod rehearsal;
mod secure;
mod secure_http;
mod sending;
mod show;
mod siege;
mod slate;
mod srt;
mod srt_destinations;
mod strangers;
mod takeover;
mod turns;
mod viewing;
mod waiting;
