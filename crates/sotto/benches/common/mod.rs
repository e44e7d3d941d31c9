//! Two things measured beside each other in one run.

use std::time::{Duration, Instant};

/// Median times of `a` and `b`, which take turns, so that a noisy machine is noisy for both.
pub fn side_by_side(
    rounds: usize,
    mut a: impl FnMut(),
    mut b: impl FnMut(),
) -> (Duration, Duration) {
    let mut times = (Vec::new(), Vec::new());
    for _ in 0..rounds {
        let start = Instant::now();
        a();
        times.0.push(start.elapsed());
        let start = Instant::now();
        b();
        times.1.push(start.elapsed());
    }
    let median = |mut times: Vec<Duration>| {
        times.sort();
        times[times.len() / 2]
    };
    (median(times.0), median(times.1))
}
