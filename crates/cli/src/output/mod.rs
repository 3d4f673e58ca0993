//! Tables for people, JSON for programs.

mod format;
mod table;

pub(crate) use format::{ago, bitrate, duration, size};
pub(crate) use table::{Column, Report};
