//! Object storage on loopback that speaks S3, checks signatures and keeps files in a folder.

use std::io::{BufRead as _, BufReader, Write as _};
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};

use hyper_util::rt::{TokioExecutor, TokioIo};
use hyper_util::server::conn::auto::Builder;
use s3s::auth::SimpleAuth;
use s3s::service::S3ServiceBuilder;
use s3s_fs::FileSystem;
use serde_json::{Value, json};
use tokio::net::TcpListener;
use tokio::task::{JoinHandle, JoinSet};

const ACCESS_KEY: &str = "harbour";
const SECRET_KEY: &str = "a secret for requests";
const BUCKET: &str = "regatta";

pub(crate) struct ObjectStorage {
    address: SocketAddr,
    folder: PathBuf,
    is_away: Arc<AtomicBool>,
    /// Those that are connected.
    connections: Arc<Mutex<JoinSet<()>>>,
    task: JoinHandle<()>,
}

impl ObjectStorage {
    pub(crate) async fn start(folder: &Path) -> Self {
        std::fs::create_dir_all(folder.join(BUCKET)).unwrap();
        let mut builder = S3ServiceBuilder::new(FileSystem::new(folder).unwrap());
        builder.set_auth(SimpleAuth::from_single(ACCESS_KEY, SECRET_KEY));
        let service = builder.build();
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        let is_away = Arc::new(AtomicBool::new(false));
        let away = is_away.clone();
        let connections: Arc<Mutex<JoinSet<()>>> = Arc::default();
        let connected = connections.clone();
        let task = tokio::spawn(async move {
            while let Ok((socket, _)) = listener.accept().await {
                if away.load(Ordering::Relaxed) {
                    continue;
                }
                let service = service.clone();
                connected.lock().unwrap().spawn(async move {
                    let builder = Builder::new(TokioExecutor::new());
                    let _ = builder.serve_connection(TokioIo::new(socket), service).await;
                });
            }
        });
        Self { address, folder: folder.to_owned(), is_away, connections, task }
    }

    /// While it is away, connections are closed without a word.
    pub(crate) fn set_away(&self, is_away: bool) {
        self.is_away.store(is_away, Ordering::Relaxed);
        if is_away {
            self.connections.lock().unwrap().abort_all();
        }
    }

    /// What the API wants to know of it.
    pub(crate) fn as_depot(&self, name: &str) -> Value {
        json!({
            "name": name,
            "endpoint": format!("http://{}", self.address),
            "bucket": BUCKET,
            "prefix": "takes",
            "access_key": ACCESS_KEY,
            "secret_key": SECRET_KEY,
        })
    }

    /// Hands out objects to everybody, whichever site's page asks; the address of what lies below the prefix.
    pub(crate) fn open_to_everybody(&self) -> String {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let (address, folder) = (listener.local_addr().unwrap(), self.object("takes"));
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let folder = folder.clone();
                std::thread::spawn(move || hand_out(stream, &folder));
            }
        });
        format!("http://{address}")
    }

    /// Names of the objects below a folder.
    pub(crate) fn names_below(&self, folder: &str) -> Vec<String> {
        let Ok(entries) = std::fs::read_dir(self.object(folder)) else { return Vec::new() };
        let names = entries.flatten().flat_map(|entry| {
            let name = format!("{folder}/{}", entry.file_name().to_str().unwrap());
            if entry.path().is_dir() { self.names_below(&name) } else { vec![name] }
        });
        names.collect()
    }

    /// The file of an object.
    pub(crate) fn object(&self, key: &str) -> PathBuf {
        self.folder.join(BUCKET).join(key)
    }
}

/// Answers requests for files, one after the other.
fn hand_out(mut stream: std::net::TcpStream, folder: &Path) {
    let mut reader = BufReader::new(stream.try_clone().unwrap());
    loop {
        let (mut request, mut line) = (String::new(), String::new());
        if reader.read_line(&mut request).unwrap_or(0) == 0 {
            return;
        }
        while reader.read_line(&mut line).is_ok_and(|count| count > 2) {
            line.clear();
        }
        let path = request.split(' ').nth(1).unwrap_or("/").trim_start_matches('/').to_owned();
        let (status, body) = match std::fs::read(folder.join(path)) {
            Ok(body) => ("200 OK", body),
            Err(_) => ("404 Not Found", Vec::new()),
        };
        let length = body.len();
        let head = format!("HTTP/1.1 {status}\r\naccess-control-allow-origin: *\r\ncontent-length: {length}\r\n\r\n");
        if stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(&body)).is_err() {
            return;
        }
    }
}

impl Drop for ObjectStorage {
    fn drop(&mut self) {
        self.task.abort();
    }
}
