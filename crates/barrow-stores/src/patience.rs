//! How long a request is tried again, and how long is waited in between.

use std::time::{Duration, Instant};

/// How long a request is tried again unless the spec says otherwise.
const GIVE_UP_AFTER: Duration = Duration::from_secs(60);

/// For so long a request may bring nothing before it counts as stalled.
const STALL: Duration = Duration::from_secs(20);

/// The first wait; each is twice the one before.
const FIRST_WAIT: Duration = Duration::from_millis(100);

/// The longest wait.
const LONGEST_WAIT: Duration = Duration::from_secs(8);

/// How long requests are tried again.
#[derive(Debug, Clone, Copy)]
pub struct Patience {
    /// Without any progress for so long, it is given up.
    pub give_up_after: Duration,
    /// Nothing for so long means that a request stalls.
    pub stall: Duration,
}

impl Patience {
    /// As the spec says.
    pub fn new(give_up_after: Option<Duration>) -> Patience {
        let give_up_after = give_up_after.unwrap_or(GIVE_UP_AFTER);
        Patience {
            give_up_after,
            stall: STALL
                .min(give_up_after.div_f64(3.0))
                .max(Duration::from_millis(50)),
        }
    }
}

/// The tries of one request since it last got anywhere.
pub struct Tries {
    since: Instant,
    wait: Duration,
}

impl Tries {
    /// Begins to count.
    pub fn new() -> Tries {
        Tries {
            since: Instant::now(),
            wait: FIRST_WAIT,
        }
    }

    /// Notes that something came.
    pub fn progress(&mut self) {
        *self = Tries::new();
    }

    /// Waits before the next try; false where it is to be given up. Waits differ a little,
    /// so that many programs do not come back at once.
    pub async fn again(&mut self, most: Duration) -> bool {
        let left = most.saturating_sub(self.since.elapsed());
        if left.is_zero() {
            return false;
        }
        let wait = self.wait.mul_f64(0.5 + fastrand::f64() / 2.0).min(left);
        self.wait = (self.wait * 2).min(LONGEST_WAIT);
        let milliseconds = u64::try_from(wait.as_millis()).unwrap_or(u64::MAX);
        tracing::warn!(
            milliseconds,
            "a request failed, and is tried again after a while"
        );
        tokio::time::sleep(wait).await;
        true
    }
}
