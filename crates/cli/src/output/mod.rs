//! Tables for people, JSON for programs.

mod clean;
mod format;
mod table;

pub(crate) use clean::{Clean, clean_line};
pub(crate) use format::{bitrate, duration, moment, size, sparkline_of, trace_of, word};
pub(crate) use table::{Column, Report};
