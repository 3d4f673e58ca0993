use std::sync::LazyLock;
use std::time::{Duration, Instant};

/// Where grids begin.
static EPOCH: LazyLock<Instant> = LazyLock::new(now);

/// The time now, by the runtime's clock: tests may make it stand still.
pub(crate) fn now() -> Instant {
    tokio::time::Instant::now().into_std()
}

/// The next multiple of `step` after `at`; `at` itself if there is no step. All who wait for the same step wake up
/// together: on a small machine the wake-ups cost more than the bytes.
pub fn on_grid(at: Instant, step: Duration) -> Instant {
    let since = at.saturating_duration_since(*EPOCH).as_micros();
    let Some(steps) = since.checked_div(step.as_micros()) else { return at };
    let next = (steps + 1).saturating_mul(step.as_micros());
    at + Duration::from_micros(u64::try_from(next - since).unwrap_or(0))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_waits_for_the_same_step_wakes_up_together() {
        let (epoch, step) = (*EPOCH, Duration::from_millis(20));
        for millis in [0, 1, 19] {
            assert_eq!(on_grid(epoch + Duration::from_millis(millis), step), epoch + step);
        }
        assert_eq!(on_grid(epoch + step, step), epoch + 2 * step);
        assert_eq!(on_grid(epoch, Duration::ZERO), epoch);
    }
}
