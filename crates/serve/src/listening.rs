//! Connections: how many there may be, in all and from one network, and how long each may take
//! its time.
//!
//! Weighed: a thousand people may sit behind one network when a sale opens, so one network may
//! have half of all connections; and one machine may try to have them all, so a connection that
//! says nothing is closed within seconds, and one that does not read what it asked for soon
//! after. A connection that waits for its next request is idle, not slow, and makes room
//! first. Behind a proxy every connection is the proxy's, which does this itself: then only
//! the number in all is bounded.

use std::collections::HashMap;
use std::convert::Infallible;
use std::future::poll_fn;
use std::net::{IpAddr, SocketAddr};
use std::pin::{Pin, pin};
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll};
use std::time::Duration;

use axum::Router;
use axum::body::{Body, Bytes};
use axum::extract::ConnectInfo;
use axum::http::{Request, header};
use hyper::body::{Body as _, Frame, Incoming, SizeHint};
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::{TokioIo, TokioTimer};
use hyper_util::server::graceful::GracefulShutdown;
use matricle_core::people::network;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{Semaphore, oneshot, watch};
use tokio_io_timeout::TimeoutStream;
use tower::ServiceExt;

/// What connections may take.
#[derive(Debug, Clone, Copy)]
pub struct Bounds {
    /// Connections in all.
    pub all: usize,
    /// Connections from one network; none bounded behind a proxy.
    pub by_network: Option<usize>,
    /// How long the head of a request may take, and how long a connection may be idle.
    pub head: Duration,
    /// How long an answer may stand unread.
    pub unread: Duration,
}

impl Bounds {
    /// So many in all; half of them from one network, unless a proxy is in front.
    #[must_use]
    pub const fn of(all: usize, behind_proxy: bool) -> Self {
        Self {
            all,
            by_network: if behind_proxy { None } else { Some(all.div_ceil(2)) },
            head: Duration::from_secs(15),
            unread: Duration::from_secs(60),
        }
    }
}

/// Connections that are open, by network.
#[derive(Debug, Default)]
struct Open(Mutex<HashMap<IpAddr, usize>>);

/// One connection of a network, counted as long as it is open.
struct Counted {
    open: Arc<Open>,
    network: IpAddr,
}

impl Open {
    /// Counts one more, unless the network has as many as it may.
    fn count(self: &Arc<Self>, network: IpAddr, most: usize) -> Option<Counted> {
        let mut open = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let of_it = open.entry(network).or_default();
        if *of_it >= most {
            return None;
        }
        *of_it += 1;
        Some(Counted { open: Arc::clone(self), network })
    }
}

impl Drop for Counted {
    fn drop(&mut self) {
        let mut open = self.open.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(of_it) = open.get_mut(&self.network) {
            *of_it -= 1;
            if *of_it == 0 {
                open.remove(&self.network);
            }
        }
    }
}

/// Serves until `stop` turns true, then waits for what is under way.
pub async fn serve(
    listener: TcpListener,
    app: Router,
    bounds: Bounds,
    mut stop: watch::Receiver<bool>,
) {
    let (room, open) = (Arc::new(Semaphore::new(bounds.all)), Arc::new(Open::default()));
    let graceful = GracefulShutdown::new();
    loop {
        let Ok(permit) = Arc::clone(&room).acquire_owned().await else { break };
        let (stream, peer) = tokio::select! {
            () = stopped(&mut stop) => break,
            accepted = listener.accept() => match accepted {
                Ok(accepted) => accepted,
                Err(error) => {
                    // No more files, or gone before it was taken: not for ever.
                    tracing::warn!(%error, "a connection could not be taken");
                    tokio::time::sleep(Duration::from_millis(50)).await;
                    continue;
                }
            },
        };
        let most = bounds.by_network.unwrap_or(usize::MAX);
        let Some(counted) = open.count(network::of(peer.ip()), most) else {
            tracing::warn!("a network has as many connections as it may; one more was closed");
            continue;
        };
        let connection = graceful.watch(connection(stream, peer, app.clone(), bounds));
        tokio::spawn(async move {
            // What breaks a connection is the other side's doing.
            let _ = connection.await;
            drop((permit, counted));
        });
    }
    drop(listener);
    graceful.shutdown().await;
}

/// Waits until it is time to stop.
async fn stopped(stop: &mut watch::Receiver<bool>) {
    let _ = stop.wait_for(|stop| *stop).await.map(drop);
}

/// So much of a form that nobody reads is taken in all the same, and for so long is it waited for.
/// An answer to a form that is left unread ends the connection (RFC 9112 §9.3), and with it what
/// the other side sends next.
const UNWANTED: usize = 128 * 1024;
const UNWANTED_FOR: Duration = Duration::from_secs(1);

/// The body of a request, which goes back to its connection where it was not read to its end.
struct Watched {
    body: Option<Incoming>,
    leave: Option<oneshot::Sender<Incoming>>,
}

impl hyper::body::Body for Watched {
    type Data = Bytes;
    type Error = hyper::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
    ) -> Poll<Option<Result<Frame<Bytes>, hyper::Error>>> {
        match &mut self.body {
            Some(body) => Pin::new(body).poll_frame(cx),
            None => Poll::Ready(None),
        }
    }

    fn is_end_stream(&self) -> bool {
        self.body.as_ref().is_none_or(hyper::body::Body::is_end_stream)
    }

    fn size_hint(&self) -> SizeHint {
        self.body.as_ref().map_or_else(SizeHint::default, hyper::body::Body::size_hint)
    }
}

impl Drop for Watched {
    fn drop(&mut self) {
        if let (Some(body), Some(leave)) = (self.body.take(), self.leave.take())
            && !body.is_end_stream()
        {
            let _ = leave.send(body);
        }
    }
}

/// Takes in what is left of a body, as far as it is worth it.
async fn drain(mut body: Incoming) {
    let all = async {
        let mut bytes = 0;
        while let Some(Ok(frame)) = poll_fn(|cx| Pin::new(&mut body).poll_frame(cx)).await {
            bytes += frame.data_ref().map_or(0, Bytes::len);
            if bytes > UNWANTED {
                break;
            }
        }
    };
    let _ = tokio::time::timeout(UNWANTED_FOR, all).await;
}

fn connection(
    stream: TcpStream,
    peer: SocketAddr,
    app: Router,
    bounds: Bounds,
) -> impl hyper_util::server::graceful::GracefulConnection + Send {
    let _ = stream.set_nodelay(true);
    let mut stream = TimeoutStream::new(stream);
    stream.set_write_timeout(Some(bounds.unread));
    let service = service_fn(move |request: Request<Incoming>| {
        let app = app.clone();
        async move {
            let waits = request.headers().contains_key(header::EXPECT);
            let (leave, mut left) = oneshot::channel();
            let mut request =
                request.map(|body| Body::new(Watched { body: Some(body), leave: Some(leave) }));
            request.extensions_mut().insert(ConnectInfo(peer));
            let answer = pin!(app.oneshot(request)).await;
            // Whoever asked first whether to send it does not: there is nothing to wait for.
            if !waits && let Ok(body) = left.try_recv() {
                drain(body).await;
            }
            Ok::<_, Infallible>(answer.unwrap_or_else(|never| match never {}))
        }
    });
    http1::Builder::new()
        .timer(TokioTimer::new())
        .header_read_timeout(bounds.head)
        .max_headers(100)
        .serve_connection(TokioIo::new(Box::pin(stream)), service)
}

#[cfg(test)]
mod tests {
    use super::*;
    use axum::routing::get;
    use tokio::io::{AsyncReadExt, AsyncWriteExt};

    async fn start(
        bounds: Bounds,
    ) -> (SocketAddr, watch::Sender<bool>, tokio::task::JoinHandle<()>) {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        let app = Router::new()
            .route("/", get(|| async { "here" }))
            .route("/refused", axum::routing::post(|| async { axum::http::StatusCode::FORBIDDEN }))
            .route("/much", get(|| async { vec![b'x'; 64 * 1024 * 1024] }));
        let (stop, stopping) = watch::channel(false);
        (address, stop, tokio::spawn(serve(listener, app, bounds, stopping)))
    }

    /// Reads until the other side closes.
    async fn to_the_end(stream: &mut TcpStream) -> String {
        let mut said = Vec::new();
        let _ = stream.read_to_end(&mut said).await;
        String::from_utf8_lossy(&said).into_owned()
    }

    /// A form that is refused before it is read does not end the connection: what its sender asks
    /// next is answered.
    #[tokio::test]
    async fn a_form_that_nobody_reads_leaves_its_connection_whole() {
        let second = Duration::from_secs(5);
        let bounds = Bounds { all: 4, by_network: None, head: second, unread: second };
        let (address, stop, served) = start(bounds).await;
        let mut stream = TcpStream::connect(address).await.unwrap();
        stream.set_nodelay(true).unwrap();
        let head = "POST /refused HTTP/1.1\r\nhost: a\r\ncontent-length: 4000\r\n\r\n";
        stream.write_all(head.as_bytes()).await.unwrap();
        tokio::time::sleep(Duration::from_millis(150)).await;
        stream.write_all(&[b'x'; 4000]).await.unwrap();
        stream.write_all(b"GET / HTTP/1.1\r\nhost: a\r\nconnection: close\r\n\r\n").await.unwrap();
        let said = to_the_end(&mut stream).await;
        assert!(said.contains("403") && said.ends_with("here"), "{said}");
        stop.send(true).unwrap();
        served.await.unwrap();
    }

    #[tokio::test]
    async fn whoever_says_nothing_or_reads_nothing_is_dropped_and_others_get_through() {
        let short = Duration::from_millis(200);
        let bounds = Bounds { all: 4, by_network: None, head: short, unread: short };
        let (address, stop, served) = start(bounds).await;
        let mut slow = Vec::new();
        for _ in 0..3 {
            let mut stream = TcpStream::connect(address).await.unwrap();
            stream.write_all(b"GET / HTTP/1.1\r\nhost: a").await.unwrap();
            slow.push(stream);
        }
        let mut unread = TcpStream::connect(address).await.unwrap();
        unread.write_all(b"GET /much HTTP/1.1\r\nhost: a\r\n\r\n").await.unwrap();
        // All four are taken; the fifth waits until they are dropped.
        let mut fifth = TcpStream::connect(address).await.unwrap();
        fifth.write_all(b"GET / HTTP/1.1\r\nhost: a\r\n\r\n").await.unwrap();
        // Idle afterwards, it is closed as well.
        assert!(to_the_end(&mut fifth).await.ends_with("here"));
        for stream in &mut slow {
            to_the_end(stream).await;
        }
        stop.send(true).unwrap();
        served.await.unwrap();
    }

    #[tokio::test]
    async fn one_network_has_its_share_and_what_is_closed_makes_room() {
        let long = Duration::from_secs(5);
        let bounds = Bounds { all: 10, by_network: Some(2), head: long, unread: long };
        let (address, stop, served) = start(bounds).await;
        let one = TcpStream::connect(address).await.unwrap();
        let _two = TcpStream::connect(address).await.unwrap();
        let mut third = TcpStream::connect(address).await.unwrap();
        assert_eq!(to_the_end(&mut third).await, "", "closed without a word");
        drop(one);
        for _ in 0..200 {
            let mut again = TcpStream::connect(address).await.unwrap();
            let _ =
                again.write_all(b"GET / HTTP/1.1\r\nhost: a\r\nconnection: close\r\n\r\n").await;
            if to_the_end(&mut again).await.ends_with("here") {
                stop.send(true).unwrap();
                served.await.unwrap();
                return;
            }
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
        panic!("no room was made");
    }
}
