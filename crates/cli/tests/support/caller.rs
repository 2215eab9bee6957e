//! What a request takes, over a connection that is kept.

use std::time::{Duration, Instant};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::TcpStream;

/// Requests of a turn, turns, and requests that are not counted: together fewer than nginx lets one connection have.
const EACH: usize = 150;
const TURNS: usize = 6;
const WARM: usize = 50;

/// A client that keeps its connection.
pub struct Caller {
    stream: TcpStream,
    request: Vec<u8>,
    buffer: Vec<u8>,
    took: Vec<Duration>,
}

impl Caller {
    pub async fn new(address: &str, request: &str) -> Caller {
        let stream = TcpStream::connect(address).await.expect("connects");
        stream.set_nodelay(true).expect("is set");
        let mut caller =
            Caller { stream, request: request.as_bytes().to_vec(), buffer: Vec::new(), took: Vec::new() };
        for _ in 0..WARM {
            caller.call().await;
        }
        caller.took.clear();
        caller
    }

    pub async fn call(&mut self) {
        let begun = Instant::now();
        self.stream.write_all(&self.request).await.expect("is sent");
        self.buffer.clear();
        loop {
            assert!(self.stream.read_buf(&mut self.buffer).await.expect("an answer") > 0, "it was closed");
            let Some(head) = self.buffer.windows(4).position(|four| four == b"\r\n\r\n") else { continue };
            let text = String::from_utf8_lossy(&self.buffer[..head]).to_lowercase();
            assert!(text.starts_with("http/1.1 200"), "{}", String::from_utf8_lossy(&self.buffer));
            let length: Option<usize> =
                text.split("content-length: ").nth(1).and_then(|rest| rest.lines().next()?.parse().ok());
            let whole = match length {
                Some(length) => self.buffer.len() >= head + 4 + length,
                None => self.buffer.ends_with(b"0\r\n\r\n"),
            };
            if whole {
                break;
            }
        }
        self.took.push(begun.elapsed());
    }

    /// The median and the 99th of a hundred.
    pub fn told(&mut self) -> (Duration, Duration) {
        self.took.sort_unstable();
        (self.took[self.took.len() / 2], self.took[self.took.len() * 99 / 100])
    }
}

/// Calls all of them in turns, so that a slower minute slows all, and tells what each took.
pub async fn in_turns(callers: &mut [(String, Caller)]) {
    for _ in 0..TURNS {
        for (_, caller) in callers.iter_mut() {
            for _ in 0..EACH {
                caller.call().await;
            }
        }
    }
    for (name, caller) in callers {
        let (median, late) = caller.told();
        println!("{name:>26}  {:>7} µs  {:>7} µs", median.as_micros(), late.as_micros());
    }
}
