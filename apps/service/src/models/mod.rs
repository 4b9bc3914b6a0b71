//! Models: their JSON form, what breaks them, and how they change.

pub(crate) mod evolve;
pub(crate) mod findings;
pub(crate) mod form;
pub(crate) mod picture;
