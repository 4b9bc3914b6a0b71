//! Hop table of a search: exact counts, and times measured for each expansion at first and for groups of them
//! later.

use std::time::Instant;

use crate::counters::{Hop, Side};
use crate::search::cursor::Cursor;
use crate::search::step::Expanded;

/// So many expansions are timed one by one, later ones this many together.
const TIMED_TOGETHER: u32 = 64;
const TIMED_ALONE: usize = 256;

pub(crate) struct HopTable {
    side: Side,
    hops: Vec<Hop>,
    clock: Instant,
    /// How many nodes were expanded, and how many since time was taken last.
    expansions: usize,
    untimed: u32,
}

impl HopTable {
    pub fn new(side: Side) -> HopTable {
        HopTable { side, hops: vec![], clock: Instant::now(), expansions: 0, untimed: 0 }
    }

    fn hop(&mut self, hop: u32) -> &mut Hop {
        while self.hops.len() < hop as usize {
            let hop = self.hops.len() as u32 + 1;
            self.hops.push(Hop { hop, side: self.side, ..Hop::default() });
        }
        &mut self.hops[hop as usize - 1]
    }

    /// One more node was expanded for this hop.
    pub fn expanded(&mut self, hop: u32, expanded: Expanded) {
        self.expansions += 1;
        let hop = self.hop(hop);
        hop.frontier += 1;
        hop.edges_looked += expanded.looked;
        hop.failed += expanded.failed;
        hop.see_degree(expanded.largest);
    }

    pub fn reached(&mut self, hop: u32, nodes: u64) {
        self.hop(hop).reached += nodes;
    }

    pub fn failed(&mut self, hop: u32) {
        self.hop(hop).failed += 1;
    }

    pub fn take_time(&mut self, hop: u32) {
        let now = Instant::now();
        let spent = now - std::mem::replace(&mut self.clock, now);
        self.untimed = 0;
        self.hop(hop).time_us += spent.as_secs_f64() * 1e6;
    }

    /// Takes the time of this expansion, or of several together.
    pub fn take_time_now_and_then(&mut self, hop: u32) {
        self.untimed += 1;
        if self.expansions <= TIMED_ALONE || self.untimed >= TIMED_TOGETHER {
            self.take_time(hop);
        }
    }

    /// What happened since it was asked last took none of its time.
    pub fn resume(&mut self) {
        self.clock = Instant::now();
    }

    /// Says what it did since it said so last.
    pub fn report(&mut self, cursor: &mut Cursor<'_>) {
        for hop in &mut self.hops {
            if hop.frontier > 0 {
                hop.known = hop.edges_looked.saturating_sub(hop.failed + hop.reached);
                let empty = Hop { hop: hop.hop, side: hop.side, ..Hop::default() };
                cursor.context.hop(std::mem::replace(hop, empty));
            }
        }
    }
}
