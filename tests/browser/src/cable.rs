//! A cable between a browser and the house, that can be cut.

use anyhow::Result;
use tokio::io::AsyncWriteExt;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;

/// How a cable is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum State {
    /// What is sent arrives, and is answered.
    Whole,
    /// Nothing gets through, at once.
    Cut,
    /// Nothing gets through, and nobody hears of it.
    Hangs,
    /// What is sent arrives; no answer comes back.
    OneWay,
}

/// A cable to a house: pages are opened at its address.
pub struct Cable {
    /// The address at this end.
    pub url: String,
    state: watch::Sender<State>,
}

impl Cable {
    /// Lays a cable to an address such as `http://127.0.0.1:1234`.
    ///
    /// # Errors
    /// No port is free.
    pub async fn to(url: &str) -> Result<Self> {
        let far = url.trim_start_matches("http://").to_owned();
        let listener = TcpListener::bind("127.0.0.1:0").await?;
        let near = format!("http://{}", listener.local_addr()?);
        let (state, watched) = watch::channel(State::Whole);
        tokio::spawn(async move {
            while let Ok((near, _)) = listener.accept().await {
                tokio::spawn(carry(near, far.clone(), watched.clone()));
            }
        });
        Ok(Self { url: near, state })
    }

    /// Cuts it, or mends it. What is under way on it breaks off.
    pub fn set(&self, state: State) {
        self.state.send_replace(state);
    }
}

async fn carry(mut near: TcpStream, far: String, mut state: watch::Receiver<State>) {
    let now = *state.borrow_and_update();
    match now {
        State::Cut => {
            let _ = near.shutdown().await;
        }
        State::Hangs => {
            let _ = state.changed().await;
        }
        State::Whole => {
            let Ok(mut far) = TcpStream::connect(&far).await else { return };
            tokio::select! {
                _ = tokio::io::copy_bidirectional(&mut near, &mut far) => {}
                _ = state.changed() => {}
            }
        }
        State::OneWay => {
            let Ok(mut far) = TcpStream::connect(&far).await else { return };
            let (mut from_near, _kept) = near.split();
            let (mut from_far, mut to_far) = far.split();
            let mut nowhere = tokio::io::sink();
            let there = tokio::io::copy(&mut from_near, &mut to_far);
            let back = tokio::io::copy(&mut from_far, &mut nowhere);
            tokio::select! {
                _ = async { tokio::join!(there, back) } => {}
                _ = state.changed() => {}
            }
        }
    }
}
