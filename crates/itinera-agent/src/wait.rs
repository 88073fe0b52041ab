//! Growing waits between tries.

use crate::exchange::ExchangeError;
use std::fmt;
use std::time::Duration;
use uuid::Uuid;

const FIRST: Duration = Duration::from_millis(250);
/// The longest wait between two tries.
const LONGEST: Duration = Duration::from_secs(15);

/// The next wait: it doubles each time, with chance in it so that many agents do not come at once.
pub(crate) struct Wait(Duration);

impl Default for Wait {
    fn default() -> Self {
        Self(FIRST)
    }
}

impl Wait {
    /// Waits after something that is said.
    pub(crate) async fn after(&mut self, what: &(dyn fmt::Display + Sync)) {
        tracing::warn!(again_in_ms = self.0.as_millis(), "{what}");
        let [chance, ..] = *Uuid::new_v4().as_bytes();
        tokio::time::sleep(self.0.mul_f64(0.5 + f64::from(chance) / 255.0)).await;
        self.0 = (self.0 * 2).min(LONGEST);
    }

    /// Waits after an error of an exchange.
    pub(crate) async fn after_error(&mut self, error: &ExchangeError, what: &str) {
        let cause = std::error::Error::source(error).map(|cause| format!(": {cause}"));
        self.after(&format!("{what}: {error}{}", cause.unwrap_or_default())).await;
    }
}
