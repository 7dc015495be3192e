//! What the `matricle` program does beside serving a house: the demo and its stand-ins.

pub mod cli;
pub mod demo;
pub mod standins;
