//! Server and client against each other, on a simulated byte link with a fake clock.

mod chunks;
mod commands;
mod faults;
mod pair;
mod publish;
