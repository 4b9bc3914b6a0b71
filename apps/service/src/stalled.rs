//! Time limit for stalled connections.

use std::time::Duration;

/// How long a client may send or take nothing in the middle of a request or an answer.
pub(crate) const STALLED: Duration = Duration::from_secs(30);
