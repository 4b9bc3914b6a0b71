//! Cached results of conditions on a single node or text, so that each is evaluated once for each node or text and
//! not once for each edge.

use std::any::Any;
use std::collections::HashMap;
use std::sync::atomic::{AtomicU32, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use graphodrome_graph::Dense;

use crate::budget::Budget;
use crate::expression::Expr;

/// Answers are kept from this many on: a brief query asks fewer, and does without.
const KEPT_AFTER: u32 = 256;

/// Two bits a node: whether it was asked for, and whether it passes.
const NODES_OF_WORD: usize = 32;
const WORDS_OF_PAGE: usize = 512;
const NODES_OF_PAGE: usize = NODES_OF_WORD * WORDS_OF_PAGE;

type Pages<const N: usize> = Vec<OnceLock<Box<[AtomicU64; N]>>>;

/// A page, made where it is not there yet; `None` where there is no memory left to keep anything in.
fn page_of<'p, const N: usize>(
    pages: &'p Pages<N>, at: usize, budget: &Budget,
) -> Option<&'p [AtomicU64; N]> {
    let page = pages.get(at)?;
    if page.get().is_none() {
        budget.hold(size_of::<[AtomicU64; N]>()).ok()?;
    }
    Some(page.get_or_init(|| Box::new([const { AtomicU64::new(0) }; N])))
}

/// The answers to one condition, for all threads of a query.
#[derive(Debug)]
pub(crate) struct NodeAnswers {
    pages: Pages<WORDS_OF_PAGE>,
    asked: AtomicU32,
}

impl NodeAnswers {
    fn new(bound: Dense) -> NodeAnswers {
        let pages = bound as usize / NODES_OF_PAGE + 1;
        NodeAnswers { pages: (0..pages).map(|_| OnceLock::new()).collect(), asked: AtomicU32::new(0) }
    }

    #[inline]
    pub fn get(&self, node: Dense) -> Option<bool> {
        let page = self.pages.get(node as usize / NODES_OF_PAGE)?.get()?;
        let place = node as usize % NODES_OF_PAGE;
        let bits = page[place / NODES_OF_WORD].load(Ordering::Relaxed) >> (place % NODES_OF_WORD * 2);
        (bits & 1 == 1).then_some(bits & 2 == 2)
    }

    pub fn put(&self, node: Dense, passes: bool, budget: &Budget) {
        if self.asked.fetch_add(1, Ordering::Relaxed) < KEPT_AFTER {
            return;
        }
        let Some(page) = page_of(&self.pages, node as usize / NODES_OF_PAGE, budget) else { return };
        let place = node as usize % NODES_OF_PAGE;
        let bits = if passes { 3 } else { 1 };
        page[place / NODES_OF_WORD].fetch_or(bits << (place % NODES_OF_WORD * 2), Ordering::Relaxed);
    }
}

/// Numbers by node, one more than they are: 0 is unknown.
const NUMBERS_OF_PAGE: usize = 1024;

/// What a step counted from each node.
#[derive(Debug)]
pub(crate) struct NodeCounts {
    pages: Pages<NUMBERS_OF_PAGE>,
    asked: AtomicU32,
}

impl NodeCounts {
    fn new(bound: Dense) -> NodeCounts {
        let pages = bound as usize / NUMBERS_OF_PAGE + 1;
        NodeCounts { pages: (0..pages).map(|_| OnceLock::new()).collect(), asked: AtomicU32::new(0) }
    }

    #[inline]
    pub fn get(&self, node: Dense) -> Option<u64> {
        let page = self.pages.get(node as usize / NUMBERS_OF_PAGE)?.get()?;
        page[node as usize % NUMBERS_OF_PAGE].load(Ordering::Relaxed).checked_sub(1)
    }

    pub fn put(&self, node: Dense, count: u64, budget: &Budget) {
        if self.asked.fetch_add(1, Ordering::Relaxed) < KEPT_AFTER {
            return;
        }
        let Some(page) = page_of(&self.pages, node as usize / NUMBERS_OF_PAGE, budget) else { return };
        page[node as usize % NUMBERS_OF_PAGE].store(count + 1, Ordering::Relaxed);
    }
}

/// The answers of a query, by condition, and the counts, by step.
#[derive(Debug, Default)]
pub(crate) struct AnswerBook {
    answers: Mutex<HashMap<usize, Arc<NodeAnswers>>>,
    of_texts: Mutex<HashMap<(usize, usize), Arc<NodeAnswers>>>,
    counts: Mutex<HashMap<usize, Arc<NodeCounts>>>,
    kept: Mutex<HashMap<(usize, Dense), KeptAnswer>>,
}

type KeptAnswer = Arc<dyn Any + Send + Sync>;

/// For more nodes than these nothing is kept.
const MOST_KEPT: usize = 64;

impl AnswerBook {
    /// A condition is told by where the plan has it, which stays while the query runs.
    pub fn of(&self, condition: &Expr, bound: Dense) -> Arc<NodeAnswers> {
        let key = std::ptr::from_ref(condition) as usize;
        let mut book = self.answers.lock().unwrap_or_else(PoisonError::into_inner);
        book.entry(key).or_insert_with(|| Arc::new(NodeAnswers::new(bound))).clone()
    }

    /// The answers of a condition to the texts of a table, of which there are so many.
    pub fn of_texts(&self, condition: &Expr, table: usize, texts: Dense) -> Arc<NodeAnswers> {
        let key = (std::ptr::from_ref(condition) as usize, table);
        let mut book = self.of_texts.lock().unwrap_or_else(PoisonError::into_inner);
        book.entry(key).or_insert_with(|| Arc::new(NodeAnswers::new(texts))).clone()
    }

    /// What an operator keeps for a node in all its runs within the query; `None` where it keeps something for too
    /// many of them.
    pub fn kept<K: Default + Send + Sync + 'static>(&self, operator: usize, node: Dense) -> Option<Arc<K>> {
        self.kept_for(operator, node, MOST_KEPT)
    }

    /// The same for at most so many nodes.
    pub fn kept_for<K: Default + Send + Sync + 'static>(
        &self, operator: usize, node: Dense, most: usize,
    ) -> Option<Arc<K>> {
        let mut book = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        if book.len() >= most && !book.contains_key(&(operator, node)) {
            return None;
        }
        let kept = book.entry((operator, node)).or_insert_with(|| Arc::<K>::default());
        kept.clone().downcast().ok()
    }

    /// What the step has counted so far.
    pub fn counts_of<S>(&self, step: &Arc<S>, bound: Dense) -> Arc<NodeCounts> {
        let key = Arc::as_ptr(step) as usize;
        let mut book = self.counts.lock().unwrap_or_else(PoisonError::into_inner);
        book.entry(key).or_insert_with(|| Arc::new(NodeCounts::new(bound))).clone()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::limits::Limits;

    #[test]
    fn answers_are_kept_once_there_are_many() {
        let answers = NodeAnswers::new(100_000);
        let budget = Limits::default().budget();
        answers.put(5, true, &budget);
        assert_eq!(answers.get(5), None);
        for node in 0..KEPT_AFTER {
            answers.put(node, false, &budget);
        }
        let passes = |node: u32| node.is_multiple_of(3);
        (20_000..60_000).for_each(|node| answers.put(node, passes(node), &budget));
        assert!((20_000..60_000).all(|node| answers.get(node) == Some(passes(node))));
        assert_eq!((answers.get(60_000), answers.get(99_999), answers.get(1_000_000)), (None, None, None));
    }
}
