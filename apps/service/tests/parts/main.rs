//! The parts of the service that can be tried without it.

#![allow(clippy::unwrap_used)]

mod called;
mod facts;
mod fetched;
mod guarded;
mod judged;
mod repaired;
mod running;
mod saved;
mod slow;
mod timed;
mod traced;
mod who;
