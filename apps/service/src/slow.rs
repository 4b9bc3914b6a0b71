//! Limits the profiles of slow queries that are kept for each minute and graph, so that a bad hour does not fill
//! the database.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use parking_lot::Mutex;

const MINUTE: Duration = Duration::from_secs(60);

/// What was kept of each graph's queries in the present minute.
#[derive(Default)]
pub struct SlowLog {
    minutes: Mutex<HashMap<String, (Instant, u32)>>,
}

impl SlowLog {
    /// Whether one more of this graph is kept.
    pub fn admits(&self, graph: &str, per_minute: u32, now: Instant) -> bool {
        let mut minutes = self.minutes.lock();
        // Graphs come and go.
        minutes.retain(|_, (began, _)| now.saturating_duration_since(*began) < MINUTE);
        let (_, kept) = minutes.entry(graph.into()).or_insert((now, 0));
        *kept = kept.saturating_add(1);
        *kept <= per_minute
    }
}
