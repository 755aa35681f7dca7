//! The one small seam through which all packing of independent blocks passes: plain bytes in, packed bytes out, on
//! several threads, **results in the order of submission**, and never more than a fixed number of jobs under way.
//!
//! It knows nothing of formats. A format hands in a pure function (with a worker's own scratch state, such as a
//! compressor's tables) and gets the same bytes for any number of threads.
//!
//! ```
//! let mut pool = ordered_pool::OrderedPool::new(2, 4, || (), |_, n: u64| n * n);
//! let mut squares = Vec::new();
//! for n in 0..10 {
//!     if pool.is_full() {
//!         squares.extend(pool.next());
//!     }
//!     pool.submit(n);
//! }
//! squares.extend(pool);
//! assert_eq!(squares[9], 81);
//! ```

use crossbeam_channel::{Receiver, Sender, bounded, unbounded};
use std::collections::VecDeque;
use std::thread::JoinHandle;

/// A bounded set of jobs under way, whose results come back in the order in which the jobs were submitted.
pub struct OrderedPool<I: Send + 'static, O: Send + 'static> {
    jobs: Option<Sender<(I, Sender<O>)>>,
    under_way: VecDeque<Receiver<O>>,
    capacity: usize,
    workers: Vec<JoinHandle<()>>,
}

impl<I: Send + 'static, O: Send + 'static> OrderedPool<I, O> {
    /// Starts `threads` workers (at least one). `state` makes each worker's scratch state, `work` does one job.
    /// At most `capacity` jobs (at least one) are under way: submitted, and their result not yet taken.
    pub fn new<S: 'static>(
        threads: usize,
        capacity: usize,
        state: impl Fn() -> S + Send + Clone + 'static,
        work: impl Fn(&mut S, I) -> O + Send + Clone + 'static,
    ) -> Self {
        let (jobs, queue) = unbounded::<(I, Sender<O>)>();
        let workers = (0..threads.max(1))
            .map(|_| {
                let (queue, state, work) = (queue.clone(), state.clone(), work.clone());
                std::thread::spawn(move || {
                    let mut state = state();
                    for (job, reply) in queue {
                        // The other side may have given up; then nobody wants the result.
                        let _ = reply.send(work(&mut state, job));
                    }
                })
            })
            .collect();
        Self { jobs: Some(jobs), under_way: VecDeque::new(), capacity: capacity.max(1), workers }
    }

    /// Whether a result has to be taken before the next job is submitted.
    pub fn is_full(&self) -> bool {
        self.under_way.len() >= self.capacity
    }

    /// Hands in a job.
    ///
    /// # Panics
    /// If the pool [is full](Self::is_full): the caller takes results first, which is what bounds the memory.
    pub fn submit(&mut self, job: I) {
        assert!(!self.is_full(), "a full pool takes no job");
        let (reply, result) = bounded(1);
        if let Some(jobs) = &self.jobs {
            // Workers end only when the sender is gone, so somebody listens.
            let _ = jobs.send((job, reply));
        }
        self.under_way.push_back(result);
    }
}

impl<I: Send + 'static, O: Send + 'static> Iterator for OrderedPool<I, O> {
    type Item = O;

    /// Waits for the oldest job's result; `None` when no job is under way.
    ///
    /// # Panics
    /// If the worker panicked on that job.
    fn next(&mut self) -> Option<O> {
        let result = self.under_way.pop_front()?;
        Some(result.recv().expect("a worker panicked"))
    }
}

impl<I: Send + 'static, O: Send + 'static> Drop for OrderedPool<I, O> {
    fn drop(&mut self) {
        self.jobs = None;
        for worker in self.workers.drain(..) {
            let _ = worker.join();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn results_come_in_order_for_any_number_of_threads() {
        for threads in 1..5 {
            let slow_when_early = |_: &mut (), n: u64| {
                std::thread::sleep(std::time::Duration::from_micros(300 - n * 3));
                n
            };
            let mut pool = OrderedPool::new(threads, 7, || (), slow_when_early);
            let mut got = Vec::new();
            for n in 0..100 {
                if pool.is_full() {
                    got.extend(pool.next());
                }
                pool.submit(n);
            }
            got.extend(pool.by_ref());
            assert_eq!(got, (0..100).collect::<Vec<_>>());
        }
    }

    #[test]
    fn a_pool_that_is_dropped_with_jobs_under_way_ends_its_threads() {
        let mut pool = OrderedPool::new(2, 50, || (), |_, n: u32| n);
        (0..50).for_each(|n| pool.submit(n));
        drop(pool);
    }
}
