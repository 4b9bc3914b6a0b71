//! Resource limits of a module.

use std::time::Duration;

/// What a call of a module may use, besides what the query may.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ModuleLimits {
    /// Steps: about one for each instruction.
    pub steps: u64,
    pub memory_bytes: u64,
    pub time: Duration,
}

impl Default for ModuleLimits {
    fn default() -> Self {
        ModuleLimits { steps: 100_000_000_000, memory_bytes: 1 << 30, time: Duration::from_secs(60) }
    }
}
