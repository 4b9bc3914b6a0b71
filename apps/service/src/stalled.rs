//! How long a connection may stand still.

use std::time::Duration;

/// How long a client may send or take nothing in the middle of a request or an answer.
pub(crate) const STALLED: Duration = Duration::from_secs(30);
