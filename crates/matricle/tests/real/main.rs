//! The real program, in a fresh folder, with its stand-ins beside it.
//!
//! `arrives` is what is built to break its reader; `cli` is what somebody types; `storm` many people at once; `kill` the program
//! killed amid it all; `told` that everybody is told once; `town` what they share.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
#![allow(clippy::too_many_lines, reason = "a test is one story")]

mod arrives;
mod cli;
mod kill;
mod storm;
mod told;
mod town;
