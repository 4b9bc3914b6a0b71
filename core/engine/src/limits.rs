//! Limits of a query.

use std::sync::Arc;
use std::sync::atomic::AtomicU64;
use std::time::{Duration, Instant};

use graphodrome_graph::Zone;

use crate::budget::Budget;
use crate::{CancelToken, MemoryPool, MemoryShare, Watch};

#[derive(Clone, Debug)]
pub struct Limits {
    pub time: Option<Duration>,
    /// Bytes the query's operators may hold at once.
    pub memory_bytes: u64,
    pub cancel: CancelToken,
    /// With a duration: give up after it with [`crate::Code::NOT_BRIEF`], for a caller that must not be held. What the
    /// operators of such a run did is not taken down: it has no profile.
    pub brief: Option<Duration>,
    /// A bound for all queries together.
    pub pool: Option<Arc<MemoryPool>>,
    /// How long a query works on one thread before others help.
    pub spread_after: Duration,
    /// The session's time zone.
    pub zone: Zone,
    /// For those who look at the query while it runs. A brief run tells nothing.
    pub watch: Option<Arc<Watch>>,
    /// What the graph is called, for procedures that may be called over some graphs only; empty where nobody says it.
    pub graph: Arc<str>,
    /// What its parameters take, accounted for as long as it runs.
    pub shares: Vec<Arc<MemoryShare>>,
}

impl Default for Limits {
    fn default() -> Self {
        Limits {
            time: None,
            memory_bytes: 1 << 30,
            cancel: CancelToken::default(),
            brief: None,
            pool: None,
            spread_after: Duration::from_millis(1),
            zone: Zone::default(),
            watch: None,
            graph: "".into(),
            shares: vec![],
        }
    }
}

impl Limits {
    /// What a query may use from now on.
    pub(crate) fn budget(&self) -> Budget {
        Budget {
            started: Instant::now(),
            time: self.time,
            brief: self.brief,
            cancel: self.cancel.clone(),
            limit: self.memory_bytes,
            held: AtomicU64::new(0),
            pool: self.pool.clone(),
        }
    }
}
