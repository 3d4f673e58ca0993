//! What the service takes of memory while nothing happens.

use crate::house::Ground;

/// The hash of a password takes 19 MiB for a moment, and a strip of stills a picture each.
#[tokio::test(flavor = "multi_thread")]
async fn what_was_taken_for_a_moment_is_given_back() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    house.publish(house.encoder(&key, 2.0)).await;
    house.ended_session(1).await;
    assert!(house.fetch("/takes/1/1/strip").starts_with(b"\xff\xd8"), "stills were decoded");
    // What the allocator keeps for reuse is small against what was taken.
    house.wait_until("memory is given back", |house| house.anonymous_kib() < 16 * 1024).await;
}
