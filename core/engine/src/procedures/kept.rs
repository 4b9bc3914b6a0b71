//! Parts of graphs that have names, kept for the version that they were read from: the next measure of the same view
//! begins at once.

use std::sync::{Arc, Mutex, PoisonError, Weak};

use graphodrome_graph::Snapshot;

use crate::procedures::{Part, PartRequest};

/// Bytes of all parts that are kept.
const MOST_BYTES: usize = 512 << 20;

struct KeptPart {
    /// The version, which is gone when nobody reads it any more.
    snapshot: Weak<Snapshot>,
    request: PartRequest,
    part: Arc<Part>,
}

impl KeptPart {
    fn is_of(&self, snapshot: &Arc<Snapshot>, request: &PartRequest) -> bool {
        std::ptr::eq(self.snapshot.as_ptr(), Arc::as_ptr(snapshot)) && self.request == *request
    }
}

/// The one used last is the last one.
static KEPT: Mutex<Vec<KeptPart>> = Mutex::new(vec![]);

/// The part of this version, where it is kept.
pub(crate) fn find(snapshot: &Arc<Snapshot>, request: &PartRequest) -> Option<Arc<Part>> {
    let mut kept = KEPT.lock().unwrap_or_else(PoisonError::into_inner);
    kept.retain(|k| k.snapshot.strong_count() > 0);
    let place = kept.iter().position(|k| k.is_of(snapshot, request))?;
    let found = kept.remove(place);
    let part = found.part.clone();
    kept.push(found);
    Some(part)
}

/// Keeps a part that has a name; those that were not used for the longest time go. Gives the part to go on with: another
/// query may have built the same meanwhile, and one of them is enough.
pub(crate) fn keep(snapshot: &Arc<Snapshot>, request: &PartRequest, part: Part) -> Arc<Part> {
    let part = Arc::new(part);
    if !request.named || part.bytes > MOST_BYTES {
        return part;
    }
    let mut kept = KEPT.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(other) = kept.iter().find(|k| k.is_of(snapshot, request)) {
        return other.part.clone();
    }
    let (snapshot, request) = (Arc::downgrade(snapshot), request.clone());
    kept.push(KeptPart { snapshot, request, part: part.clone() });
    let mut bytes = 0;
    let first = kept.iter().rposition(|k| {
        bytes += k.part.bytes;
        bytes > MOST_BYTES
    });
    if let Some(first) = first {
        kept.drain(..=first);
    }
    part
}
