//! Server and client against each other, on a simulated byte link with a fake clock.

mod chunks;
mod commands;
mod faults;
mod links;
mod pair;
mod play;
mod publish;
mod turns;
mod vectors;
