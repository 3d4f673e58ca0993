//! Files in a browser: each is opened, played into, and looked at.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

use serde::Deserialize;
use serde::de::DeserializeOwned;

/// How long the browser may take for all files.
const PATIENCE: Duration = Duration::from_secs(90);

/// Plays every file near its end and tells what was seen.
const PAGE: &str = r#"<!doctype html><title>takes</title><script>
const wait = (video, event) => new Promise((done, fail) => {
  video.addEventListener(event, done, { once: true });
  video.addEventListener("error", () => fail(new Error(video.error.message || "error " + video.error.code)), { once: true });
  setTimeout(() => fail(new Error("no " + event)), 15000);
});
const ends = ENDS;
async function look(number) {
  const video = document.createElement("video");
  video.muted = true;
  video.src = "/file/" + number;
  try {
    await wait(video, "loadeddata");
    const end = ends[number] ?? video.duration;
    video.currentTime = Math.max(0, end - 0.3);
    await wait(video, "seeked");
    const canvas = document.createElement("canvas");
    canvas.width = 64; canvas.height = 36;
    const context = canvas.getContext("2d");
    // On a busy machine the picture may come a moment after the browser says that it is there.
    for (let tries = 0; ; tries++) {
      context.drawImage(video, 0, 0, 64, 36);
      const pixels = context.getImageData(0, 0, 64, 36).data;
      const greens = Array.from({ length: 64 * 36 }, (_, at) => pixels[at * 4 + 1]);
      const spread = Math.max(...greens) - Math.min(...greens);
      if (spread > 0 || tries >= 50) return { seconds: video.duration, width: video.videoWidth, spread, error: null };
      await new Promise((go) => setTimeout(go, 100));
    }
  } catch (error) {
    return { seconds: 0, width: 0, spread: 0, error: String(error) };
  }
}
(async () => {
  const seen = [];
  for (let number = 0; number < ends.length; number++) seen.push(await look(number));
  await fetch("/seen", { method: "POST", body: JSON.stringify(seen) });
})();
</script>"#;

/// What the browser saw of a file.
#[derive(Debug, Deserialize)]
pub(crate) struct Seen {
    /// None where the file does not tell.
    pub(crate) seconds: Option<f64>,
    pub(crate) width: u32,
    /// Between the darkest and the brightest green: a picture was drawn.
    pub(crate) spread: u8,
    pub(crate) error: Option<String>,
}

/// Opens files in headless Chromium and plays each near its end: near that one, in seconds, that is
/// given, or that which the file tells.
pub(crate) fn open_in_chromium(files: &[(PathBuf, Option<f64>)]) -> Vec<Seen> {
    let (paths, ends): (Vec<PathBuf>, Vec<Option<f64>>) = files.iter().cloned().unzip();
    show_in_chromium(&PAGE.replace("ENDS", &serde_json::to_string(&ends).unwrap()), &paths)
}

/// Opens a page in headless Chromium that looks at files, `/file/0` and so on, and waits for what it posts.
pub(crate) fn show_in_chromium<T: DeserializeOwned>(page: &str, files: &[PathBuf]) -> T {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let url = format!("http://{}/", listener.local_addr().unwrap());
    let profile = tempfile::tempdir().unwrap();
    let mut browser = Command::new("chromium")
        .args([
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--no-first-run",
            "--autoplay-policy=no-user-gesture-required",
        ])
        .arg(format!("--user-data-dir={}", profile.path().display()))
        .arg(&url)
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .expect("Debian's chromium is needed");
    let (sender, seen) = std::sync::mpsc::channel();
    let served = Arc::new((page.to_owned(), files.to_vec()));
    listener.set_nonblocking(true).unwrap();
    let deadline = Instant::now() + PATIENCE;
    let seen = loop {
        if let Ok((stream, _)) = listener.accept() {
            let (served, sender) = (served.clone(), sender.clone());
            std::thread::spawn(move || answer(stream, &served, &sender));
        }
        if let Ok(seen) = seen.try_recv() {
            break seen;
        }
        assert!(Instant::now() < deadline, "the browser does not tell what it sees");
        std::thread::sleep(Duration::from_millis(5));
    };
    let _ = browser.kill();
    let _ = browser.wait();
    serde_json::from_str(&seen).unwrap()
}

fn answer(
    stream: TcpStream,
    (page, files): &(String, Vec<PathBuf>),
    seen: &std::sync::mpsc::Sender<String>,
) -> Option<()> {
    stream.set_nonblocking(false).ok()?;
    let mut reader = BufReader::new(stream.try_clone().ok()?);
    let mut line = String::new();
    reader.read_line(&mut line).ok()?;
    let target = line.split(' ').nth(1)?.to_owned();
    let (mut range, mut length) = (None, 0);
    loop {
        let mut header = String::new();
        reader.read_line(&mut header).ok()?;
        let header = header.trim().to_ascii_lowercase();
        if header.is_empty() {
            break;
        }
        if let Some(asked) = header.strip_prefix("range: bytes=") {
            let (from, to) = asked.split_once('-')?;
            range = Some((from.parse::<usize>().ok()?, to.parse::<usize>().ok()));
        }
        if let Some(told) = header.strip_prefix("content-length: ") {
            length = told.parse().ok()?;
        }
    }
    let mut stream = stream;
    let mut send = |head: String, body: &[u8]| {
        let head = format!("HTTP/1.1 {head}\r\nContent-Length: {}\r\nConnection: close\r\n\r\n", body.len());
        stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(body)).ok()
    };
    match target.as_str() {
        "/" => send("200 OK\r\nContent-Type: text/html".into(), page.as_bytes()),
        "/seen" => {
            let mut body = vec![0; length];
            reader.read_exact(&mut body).ok()?;
            let _ = seen.send(String::from_utf8_lossy(&body).into_owned());
            send("204 No Content".into(), b"")
        }
        target => {
            let file = files.get(target.strip_prefix("/file/")?.parse::<usize>().ok()?)?;
            let bytes = std::fs::read(file).ok()?;
            let kind = if file.extension()? == "mkv" { "video/x-matroska" } else { "video/mp4" };
            let kind = format!("Content-Type: {kind}\r\nAccept-Ranges: bytes");
            match range {
                Some((from, to)) if from < bytes.len() => {
                    let to = to.unwrap_or(bytes.len() - 1).min(bytes.len() - 1);
                    let told =
                        format!("206 Partial Content\r\n{kind}\r\nContent-Range: bytes {from}-{to}/{}", bytes.len());
                    send(told, &bytes[from..=to])
                }
                _ => send(format!("200 OK\r\n{kind}"), &bytes),
            }
        }
    }
}

/// Asks Debian's tools what they think of a file; what they say must be good.
pub(crate) fn check_with_tools(file: &PathBuf) {
    let run = |program: &str, arguments: &[&str]| {
        let output = Command::new(program).args(arguments).arg(file).output().unwrap();
        let said = format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
        assert!(output.status.success(), "{program} {}: {said}", file.display());
        said
    };
    let said = run("mediainfo", &[]);
    assert!(said.contains("Video") && said.contains("Duration"), "{said}");
    assert!(!said.contains("IsTruncated") && !said.contains("Conformance errors"), "{said}");
    let identified: serde_json::Value = serde_json::from_str(&run("mkvmerge", &["-J"])).unwrap();
    assert_eq!((&identified["errors"], &identified["warnings"]), (&serde_json::json!([]), &serde_json::json!([])));
    assert_eq!(identified["container"]["supported"], true, "{identified}");
    if file.extension().is_some_and(|extension| extension == "mkv") {
        let said = run("mkvinfo", &["--ui-language", "en_US"]);
        assert!(said.contains("+ Cluster") && !said.to_lowercase().contains("error"), "{said}");
    }
    // Every packet is read by remuxing it.
    let target = file.with_extension("remuxed.mkv");
    let output = Command::new("mkvmerge").arg("-o").arg(&target).arg(file).output().unwrap();
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(output.status.success(), "mkvmerge {}: {said}", file.display());
    std::fs::remove_file(target).unwrap();
}
