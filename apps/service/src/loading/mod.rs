//! Loads as jobs: their sources, the work, and their rejects given back as files.

pub(crate) mod fetch;
pub(crate) mod repair;
pub(crate) mod upload;
pub(crate) mod work;
