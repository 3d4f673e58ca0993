//! Object storage on loopback that speaks S3, checks signatures and keeps files in a folder.

use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use hyper_util::rt::{TokioExecutor, TokioIo};
use hyper_util::server::conn::auto::Builder;
use s3s::auth::SimpleAuth;
use s3s::service::S3ServiceBuilder;
use s3s_fs::FileSystem;
use serde_json::{Value, json};
use tokio::net::TcpListener;
use tokio::task::JoinHandle;

const ACCESS_KEY: &str = "harbour";
const SECRET_KEY: &str = "a secret for requests";
const BUCKET: &str = "regatta";

pub(crate) struct ObjectStorage {
    address: SocketAddr,
    folder: PathBuf,
    is_away: Arc<AtomicBool>,
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
        let task = tokio::spawn(async move {
            while let Ok((socket, _)) = listener.accept().await {
                if away.load(Ordering::Relaxed) {
                    continue;
                }
                let service = service.clone();
                tokio::spawn(async move {
                    let builder = Builder::new(TokioExecutor::new());
                    let _ = builder.serve_connection(TokioIo::new(socket), service).await;
                });
            }
        });
        Self { address, folder: folder.to_owned(), is_away, task }
    }

    /// While it is away, connections are closed without a word.
    pub(crate) fn set_away(&self, is_away: bool) {
        self.is_away.store(is_away, Ordering::Relaxed);
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

    /// The file of an object.
    pub(crate) fn object(&self, key: &str) -> PathBuf {
        self.folder.join(BUCKET).join(key)
    }
}

impl Drop for ObjectStorage {
    fn drop(&mut self) {
        self.task.abort();
    }
}
