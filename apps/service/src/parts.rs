//! Re-exports for tests of single parts of this crate, which need not build the whole service again. Not used
//! otherwise.

pub use crate::called::{Known, Writer, called_names, changes, texts};
pub use crate::guard::is_loopback_host;
pub use crate::loading::fetch::allowed;
pub use crate::loading::repair::stem;
pub use crate::routes::baselines::{Verdict, judge};
pub use crate::routes::saved::asks_the_time;
pub use crate::run::Phases;
pub use crate::run::answers::Timing;
pub use crate::run::epilogue::Facts;
pub use crate::run::explain::ProfileRequest;
pub use crate::running::{Phase, Registry, RunningKind};
pub use crate::slow::SlowLog;
pub use crate::traces::TraceParent;
pub use crate::who::{asked_by, client, named_by, spawn, with};
pub use crate::written::{MARK, asked, called_at};
