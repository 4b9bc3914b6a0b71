//! A way to PostgreSQL that can be cut: a TCP port in front of a server's socket.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream, UnixStream};
use tokio::sync::watch;

/// How connections behave.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Way {
    Open,
    /// What is asked still arrives, and no answer comes back.
    Deaf,
    /// Nothing passes, and no connection is made.
    Shut,
}

pub struct Proxy {
    way: watch::Sender<(Way, u64)>,
    port: u16,
    cuts: AtomicU64,
    /// Bytes passed since it was told to be deaf.
    heard: Arc<AtomicBool>,
}

impl Proxy {
    /// In front of the server whose socket lies in this folder.
    pub async fn before(socket: &Path) -> Proxy {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let port = listener.local_addr().unwrap().port();
        let (way, seen) = watch::channel((Way::Open, 0));
        let heard = Arc::new(AtomicBool::new(false));
        let (socket, hearing) = (socket.join(".s.PGSQL.5432"), heard.clone());
        tokio::spawn(async move {
            while let Ok((client, _)) = listener.accept().await {
                if seen.borrow().0 != Way::Shut {
                    tokio::spawn(pass(client, socket.clone(), seen.clone(), hearing.clone()));
                }
            }
        });
        Proxy { way, port, cuts: AtomicU64::new(0), heard }
    }

    pub fn url(&self) -> String {
        format!("postgres://graphodrome@127.0.0.1:{}/postgres", self.port)
    }

    fn go(&self, way: Way) {
        let cut = self.cuts.fetch_add((way != Way::Deaf) as u64, Ordering::SeqCst);
        self.way.send_replace((way, cut + (way != Way::Deaf) as u64));
    }

    /// Cuts all connections in the middle of an answer: what was asked by then is done, and nobody learns of it.
    pub async fn cut_answers(&self) {
        self.heard.store(false, Ordering::SeqCst);
        self.go(Way::Deaf);
        let began = std::time::Instant::now();
        // Until something was asked.
        while !self.heard.load(Ordering::SeqCst) && began.elapsed().as_millis() < 300 {
            tokio::task::yield_now().await;
        }
        self.go(Way::Open);
    }

    /// Cuts all connections, and lets none through until it is opened.
    pub fn shut(&self) {
        self.go(Way::Shut);
    }

    pub fn open(&self) {
        self.go(Way::Open);
    }
}

async fn pass(
    mut client: TcpStream, socket: PathBuf, mut way: watch::Receiver<(Way, u64)>, heard: Arc<AtomicBool>,
) {
    let Ok(mut server) = UnixStream::connect(socket).await else { return };
    let cut = way.borrow().1;
    let (mut asked, mut answered) = (vec![0; 16 << 10], vec![0; 16 << 10]);
    loop {
        tokio::select! {
            changed = way.changed() => {
                if changed.is_err() || way.borrow().1 != cut {
                    return;
                }
            }
            read = client.read(&mut asked) => {
                let Ok(read @ 1..) = read else { return };
                if server.write_all(&asked[..read]).await.is_err() {
                    return;
                }
                if way.borrow().0 == Way::Deaf {
                    heard.store(true, Ordering::SeqCst);
                }
            }
            read = server.read(&mut answered) => {
                let Ok(read @ 1..) = read else { return };
                if way.borrow().0 != Way::Deaf && client.write_all(&answered[..read]).await.is_err() {
                    return;
                }
            }
        }
    }
}
