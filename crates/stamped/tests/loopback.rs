//! Real connections on loopback.

use std::time::{Duration, Instant};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use vastrelay_stamped::{Stamped, stamp_arrivals};

/// Returns both ends of a connection.
async fn pair() -> (Stamped, Stamped) {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    stamp_arrivals(&listener).unwrap();
    let near = TcpStream::connect(listener.local_addr().unwrap()).await.unwrap();
    let (far, _) = listener.accept().await.unwrap();
    (Stamped::new(near).unwrap(), Stamped::new(far).unwrap())
}

/// Sends bytes and lets them lie at the other end for a while; returns a moment at which they lay there already.
async fn leave(from: &mut Stamped, at: &Stamped, bytes: &[u8]) -> Instant {
    from.write_all(bytes).await.unwrap();
    at.stream().peek(&mut [0]).await.unwrap();
    let there = Instant::now();
    while there.elapsed() < Duration::from_millis(30) {
        std::hint::spin_loop();
    }
    there
}

#[tokio::test]
async fn bytes_count_from_their_arrival_however_late_they_are_read() {
    let (mut near, mut far) = pair().await;
    // More than once: the system may begin to note a moment after it was asked to.
    for round in 0..3 {
        let before = Instant::now();
        let there = leave(&mut near, &far, b"first").await;
        let mut bytes = [0; 5];
        far.read_exact(&mut bytes).await.unwrap();
        assert_eq!(&bytes, b"first");
        let received = far.stamps().received();
        if round > 0 {
            assert!(received <= there, "{:?} after they lay there", received - there);
        }
        assert!(received >= before - Duration::from_millis(1), "before they were sent");
        assert!(near.stamps().sent() >= before && near.stamps().sent() <= there);
        far.write_all(b"thanks").await.unwrap();
        near.read_exact(&mut [0; 6]).await.unwrap();
    }
}

#[tokio::test]
async fn a_message_leaves_with_its_first_bytes_and_answers_begin_another() {
    let (mut near, mut far) = pair().await;
    near.write_all(b"a").await.unwrap();
    let begun = near.stamps().sent();
    near.write_all(b"b").await.unwrap();
    assert_eq!(near.stamps().sent(), begun, "still the same message");
    far.write_all(b"answer").await.unwrap();
    near.read_exact(&mut [0; 6]).await.unwrap();
    near.write_all(b"c").await.unwrap();
    assert!(near.stamps().sent() > begun);
    let mut all = [0; 3];
    far.read_exact(&mut all).await.unwrap();
    assert_eq!(&all, b"abc");
}

#[tokio::test]
async fn a_message_begins_to_arrive_with_its_first_bytes_and_goes_on_with_its_last() {
    let (mut near, mut far) = pair().await;
    for round in 0..3 {
        let mut byte = [0];
        leave(&mut near, &far, b"a").await;
        far.read_exact(&mut byte).await.unwrap();
        let begun = far.stamps().first_received();
        assert_eq!(begun, far.stamps().received());
        leave(&mut near, &far, b"b").await;
        far.read_exact(&mut byte).await.unwrap();
        assert_eq!(
            far.stamps().first_received(),
            begun,
            "round {round}: still the same message"
        );
        assert!(far.stamps().received() > begun);
        far.write_all(b"answer").await.unwrap();
        near.read_exact(&mut [0; 6]).await.unwrap();
    }
}

#[tokio::test]
async fn whatever_is_sent_arrives_whole_and_the_end_is_seen() {
    let (near, far) = pair().await;
    let sent: Vec<u8> = (0..3_000_000_u32).map(|number| (number % 251) as u8).collect();
    let writing = {
        let (sent, mut near) = (sent.clone(), near);
        tokio::spawn(async move {
            for part in sent.chunks(70_001) {
                near.write_all(part).await.unwrap();
            }
            near.shutdown().await.unwrap();
            near
        })
    };
    let (mut received, mut far) = (Vec::new(), far);
    far.read_to_end(&mut received).await.unwrap();
    assert!(received == sent, "{} bytes of {}", received.len(), sent.len());
    drop(far);
    let mut near = writing.await.unwrap();
    assert_eq!(near.read(&mut [0; 8]).await.unwrap(), 0, "the other end has gone");
}
