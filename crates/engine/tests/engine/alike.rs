//! The same picture, coming twice at once.

use std::time::Duration;

use uuid::Uuid;
use ypogeion_core::{Digest, PersonId};
use ypogeion_engine::alike::Landings;

#[tokio::test]
async fn the_same_bytes_wait_for_each_other_and_others_do_not() {
    let landings = Landings::default();
    let (juno, piet) = (PersonId(Uuid::from_u128(1)), PersonId(Uuid::from_u128(2)));
    let (kite, weir) = (Digest::of(b"kite"), Digest::of(b"weir"));
    let first = landings.alone(juno, kite).await;
    let _other = landings.alone(juno, weir).await;
    let _another_members = landings.alone(piet, kite).await;
    let second = {
        let landings = landings.clone();
        tokio::spawn(async move { landings.alone(juno, kite).await })
    };
    // One that gives up while it waits takes nothing with it.
    let given_up = tokio::time::timeout(Duration::ZERO, landings.alone(juno, kite)).await;
    assert!(given_up.is_err() && !second.is_finished());
    drop(first);
    let second = second.await.unwrap();
    assert_eq!(landings.under_way(), 3);
    drop(second);
    assert_eq!(landings.under_way(), 2, "what nobody waits for is forgotten");
}
