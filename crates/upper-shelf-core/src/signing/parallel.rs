//! The same work on many things, on several threads.

use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

/// What comes of each thing, in their order; the first error of those that happened ends it.
pub fn each<T: Sync, R: Send, E: Send>(
    threads: usize,
    all: &[T],
    work: impl Fn(&T) -> Result<R, E> + Sync,
) -> Result<Vec<R>, E> {
    let (next, stop) = (AtomicUsize::new(0), AtomicBool::new(false));
    let done = Mutex::new(Vec::with_capacity(all.len()));
    std::thread::scope(|scope| {
        for _ in 0..threads.clamp(1, all.len().max(1)) {
            scope.spawn(|| {
                while !stop.load(Ordering::Relaxed) {
                    let n = next.fetch_add(1, Ordering::Relaxed);
                    let Some(one) = all.get(n) else { break };
                    let result = work(one);
                    if result.is_err() {
                        stop.store(true, Ordering::Relaxed);
                    }
                    done.lock().unwrap_or_else(PoisonError::into_inner).push((n, result));
                }
            });
        }
    });
    let mut done = done.into_inner().unwrap_or_else(PoisonError::into_inner);
    done.sort_by_key(|(n, _)| *n);
    done.into_iter().map(|(_, result)| result).collect()
}
