//! Certificates from an authority: a foreign one, which looks for itself whether the names are ours.

use std::net::{SocketAddr, TcpListener};
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicU16, Ordering};
use std::time::{Duration, Instant};

use rstest::rstest;
use serde_json::{Value, json};
use time::format_description::well_known::Rfc3339;
use waverant_standin::{Authority, Validity};

use crate::command_line::Shell;
use crate::house::{Ground, House, PASSWORD};

/// What the authority calls the account that one has there already, and its key.
const BINDING: (&str, &str) = ("wexcombe-1", "zWNDZM6eQGHWpSRTPal5eIUYFTu7EajVIoguysqZ9wG44nMEtx3MUAsUDkMTQ12W");

/// One that nobody has, and that the system gives nobody: both sides have to know it before either listens.
fn free_port() -> u16 {
    static NEXT: AtomicU16 = AtomicU16::new(0);
    let first = 20_000 + u16::try_from(std::process::id() % 500).unwrap() * 20;
    loop {
        let port = first + NEXT.fetch_add(1, Ordering::Relaxed);
        if TcpListener::bind(("127.0.0.1", port)).is_ok() {
            return port;
        }
    }
}

/// A foreign authority on loopback, with a name service that leads every name here. Ends when dropped.
struct ForeignAuthority {
    programs: Vec<Child>,
    directory: String,
    management: String,
    trusted: PathBuf,
}

impl Drop for ForeignAuthority {
    fn drop(&mut self) {
        for program in &mut self.programs {
            let _ = program.kill();
            let _ = program.wait();
        }
    }
}

/// Where it looks, and how it is.
#[derive(Default)]
struct Looks {
    http: u16,
    tls: u16,
    needs_binding: bool,
    /// Seconds that its certificates are good.
    life: Option<u32>,
}

impl ForeignAuthority {
    fn start(ground: &Ground, looks: &Looks) -> Self {
        let own = Authority::new().unwrap();
        let issued = own.issue("localhost", Validity::Good).unwrap();
        let write = |name: &str, text: &str| {
            std::fs::write(ground.path(name), text).unwrap();
            ground.path(name)
        };
        let trusted = write("foreign-root.pem", own.pem());
        let [directory, management, names, names_management] = [(); 4].map(|()| free_port());
        let mut config = json!({
            "listenAddress": format!("127.0.0.1:{directory}"),
            "managementListenAddress": format!("127.0.0.1:{management}"),
            "certificate": write("foreign.pem", &issued.certificate),
            "privateKey": write("foreign.key", &issued.key),
            "httpPort": looks.http,
            "tlsPort": looks.tls,
            "externalAccountBindingRequired": looks.needs_binding,
        });
        if looks.needs_binding {
            config["externalAccountMACKeys"] = json!({(BINDING.0): BINDING.1});
        }
        if let Some(life) = looks.life {
            config["certificateValidityPeriod"] = json!(life);
        }
        let config = write("foreign.json", &json!({ "pebble": config }).to_string());
        let mut name_service = Command::new("pebble-challtestsrv");
        name_service.args(["-defaultIPv6", "", "-http01", "", "-https01", "", "-tlsalpn01", ""]);
        name_service.args(["-dns01", &format!("127.0.0.1:{names}")]);
        name_service.args(["-management", &format!("127.0.0.1:{names_management}")]);
        let mut authority = Command::new("pebble");
        authority.arg("-config").arg(config).args(["-dnsserver", &format!("127.0.0.1:{names}")]);
        authority.env("PEBBLE_VA_NOSLEEP", "1");
        let log = |name: &str| Stdio::from(std::fs::File::create(ground.path(name)).unwrap());
        let start = |mut command: Command, name: &str| command.stdout(log(name)).stderr(Stdio::null()).spawn().unwrap();
        let programs = vec![start(name_service, "names.log"), start(authority, "foreign.log")];
        let place = |port: u16| format!("https://localhost:{port}");
        let (directory, management) = (format!("{}/dir", place(directory)), place(management));
        let foreign = Self { programs, directory, management, trusted };
        let deadline = Instant::now() + Duration::from_secs(10);
        while foreign.fetch(&foreign.directory).is_none() {
            assert!(Instant::now() < deadline, "the foreign authority does not start");
            std::thread::sleep(Duration::from_millis(50));
        }
        foreign
    }

    fn fetch(&self, address: &str) -> Option<String> {
        let mut command = Command::new("curl");
        command.args(["--silent", "--max-time", "5", "--cacert"]).arg(&self.trusted).arg(address);
        let output = command.output().unwrap();
        output.status.success().then(|| String::from_utf8(output.stdout).unwrap())
    }

    /// A file with the authority that its certificates go back to.
    fn root(&self, ground: &Ground) -> PathBuf {
        let path = ground.path("given-root.pem");
        std::fs::write(&path, self.fetch(&format!("{}/roots/0", self.management)).unwrap()).unwrap();
        path
    }

    /// Settings of a house that has its certificate from here.
    fn settings(&self, ground: &Ground, looks: &Looks, proof: &str) {
        let (directory, trusted) = (&self.directory, self.trusted.display());
        let mut section = format!(
            "[authority]\ndirectory = \"{directory}\"\nnames = \"relay.wexcombe.test watch.wexcombe.test\"\n\
             contacts = \"mailto:harbour@wexcombe.test\"\nagrees_to_terms = true\nproof = \"{proof}\"\n\
             trusted_file = \"{trusted}\"\n"
        );
        if looks.needs_binding {
            std::fs::write(ground.path("binding.key"), BINDING.1).unwrap();
            let file = ground.path("binding.key");
            section += &format!("binding_id = \"{}\"\nbinding_key_file = \"{}\"\n", BINDING.0, file.display());
        }
        ground.write_settings(&section);
        let settings = std::fs::read_to_string(ground.path("waverant.toml")).unwrap();
        let listen = format!(
            "[listen]\nrtmps = \"127.0.0.1:0\"\nhttps = \"127.0.0.1:{}\"\nviewing_https = \"127.0.0.1:0\"\n\
             redirect = \"127.0.0.1:{}\"\n",
            looks.tls, looks.http
        );
        std::fs::write(ground.path("waverant.toml"), settings.replace("[listen]\n", &listen)).unwrap();
    }
}

fn in_use(house: &House<'_>) -> Value {
    house.get("/certificate")["in_use"].clone()
}

async fn certified(house: &House<'_>) -> Value {
    let is_there = |house: &House<'_>| in_use(house)["is_placeholder"] == json!(false);
    house.wait_until("a certificate", is_there).await;
    in_use(house)
}

/// What a foreign client says of the handshake at a door, with the only authority that it trusts.
fn handshake(root: &std::path::Path, at: SocketAddr, more: &[&str]) -> (bool, String) {
    let mut command = Command::new("openssl");
    command.args(["s_client", "-connect", &at.to_string(), "-servername", "watch.wexcombe.test"]);
    command.args(["-verify_hostname", "watch.wexcombe.test", "-verify_return_error", "-CAfile"]).arg(root);
    let output = command.args(more).stdin(Stdio::null()).output().unwrap();
    (output.status.success(), String::from_utf8_lossy(&output.stdout).into_owned())
}

/// A first certificate is had at once, all doors have it, it is renewed when that is asked for, and a restart orders none.
#[rstest]
#[case::at_port_80("http-01", false)]
#[case::in_the_handshake_with_an_account_there("tls-alpn-01", true)]
#[tokio::test(flavor = "multi_thread")]
async fn a_certificate_is_had_from_an_authority(#[case] proof: &str, #[case] needs_binding: bool) {
    let ground = Ground::new().await;
    let looks = Looks { http: free_port(), tls: free_port(), needs_binding, life: None };
    let foreign = ForeignAuthority::start(&ground, &looks);
    foreign.settings(&ground, &looks, proof);
    let mut house = ground.start();
    let first = certified(&house).await;
    assert_eq!(first["names"], json!(["relay.wexcombe.test", "watch.wexcombe.test"]));
    let root = foreign.root(&ground);
    for door in [house.https.unwrap(), house.viewing_https.unwrap(), house.rtmps.unwrap()] {
        for (version, is_spoken) in [("-tls1_3", true), ("-tls1_2", true), ("-tls1_1", false)] {
            let (is_good, told) = handshake(&root, door, &[version]);
            assert_eq!(is_good, is_spoken, "{door} {version}: {told}");
            let is_modern = told.contains("AES_256_GCM")
                || told.contains("AES_128_GCM")
                || told.contains("AES256-GCM")
                || told.contains("CHACHA20");
            assert!(!is_spoken || (is_modern && told.contains("Verification: OK")), "{told}");
        }
    }
    // Once it was looked at, nothing is shown any more.
    let (_, told) = handshake(&root, house.https.unwrap(), &["-alpn", "acme-tls/1"]);
    assert!(!told.contains("ALPN protocol: acme-tls/1"), "{told}");

    let shell = Shell { house: &house };
    let sign_in = ["sign-in", &format!("http://{}", house.http), "--name", "harbour", "--password-file", "-"];
    assert!(shell.run_with(&sign_in, PASSWORD).status.success());
    let shown = shell.run(&["certificate", "show"]);
    assert!(shown.contains("for          relay.wexcombe.test watch.wexcombe.test"), "{shown}");
    assert!(shown.contains(&format!("({proof})")) && shown.contains("renewed      2"), "{shown}");
    shell.run(&["certificate", "renew"]);
    let is_other = |house: &House<'_>| in_use(house)["serial"] != first["serial"];
    house.wait_until("another", is_other).await;
    let second = certified(&house).await;

    house.signal("-TERM");
    house.wait_for_exit();
    drop(house);
    for name in ["account.json", "certificate.pem"] {
        let mode = std::os::unix::fs::PermissionsExt::mode(
            &std::fs::metadata(ground.path("state/certificate").join(name)).unwrap().permissions(),
        );
        assert_eq!(mode & 0o777, 0o600, "{name}");
    }
    let house = ground.start();
    assert_eq!(in_use(&house)["serial"], second["serial"], "it is there from the first moment");
    tokio::time::sleep(Duration::from_secs(1)).await;
    let renewal = house.get("/certificate")["renewal"].clone();
    assert_eq!(
        (&renewal["is_at_work"], &renewal["renewed_at"], &renewal["fault"]),
        (&json!(false), &Value::Null, &Value::Null)
    );
}

/// One that ends soon is renewed without anybody's doing, and nothing that is connected notices.
#[tokio::test(flavor = "multi_thread")]
async fn it_is_renewed_before_it_ends() {
    let ground = Ground::new().await;
    let looks = Looks { http: free_port(), tls: free_port(), needs_binding: false, life: Some(18) };
    let foreign = ForeignAuthority::start(&ground, &looks);
    foreign.settings(&ground, &looks, "http-01");
    let house = ground.start();
    let first = certified(&house).await;
    house.wait_until("another", |house| in_use(house)["serial"] != first["serial"]).await;
    let at = |text: &Value| time::OffsetDateTime::parse(text.as_str().unwrap(), &Rfc3339).unwrap();
    assert!(at(&in_use(&house)["since"]) < at(&first["ends_at"]), "the first was still good");
    let (is_good, told) = handshake(&foreign.root(&ground), house.https.unwrap(), &[]);
    assert!(is_good, "{told}");
}

/// An authority that does not reach us: told with its cause, TLS is spoken all the same, and it is mended by a restart.
#[tokio::test(flavor = "multi_thread")]
async fn what_goes_wrong_is_a_finding() {
    let ground = Ground::new().await;
    let looks = Looks { http: free_port(), tls: free_port(), ..Looks::default() };
    let foreign = ForeignAuthority::start(&ground, &looks);
    foreign.settings(&ground, &Looks { http: free_port(), ..looks }, "http-01");
    let mut house = ground.start();
    let found = |house: &House<'_>| house.get("/live")["findings"][0].clone();
    house.wait_until("it is told", |house| !found(house).is_null()).await;
    let told = found(&house);
    assert_eq!((&told["code"], &told["severity"]), (&json!("certificate_not_renewed"), &json!("alarm")), "{told}");
    let cause = told["cause"].as_str().unwrap();
    assert!(cause.contains("proving relay.wexcombe.test: the authority says:") && cause.contains("port 80"), "{cause}");
    let (status, problem) = house.try_call("POST", "/certificate/renewal", None);
    assert_eq!(status, 202, "{problem}");
    let (status, problem) = house.try_call("POST", "/certificate/renewal", None);
    assert!(status == 409 && problem["detail"].as_str().unwrap().contains("is being had"), "{problem}");
    let acts = house.get("/acts")["items"].to_string();
    assert!(acts.contains("renew_certificate"), "{acts}");
    let (is_good, _) = handshake(&ground.path("foreign-root.pem"), house.https.unwrap(), &[]);
    assert!(!is_good, "nobody trusts the one that stands in");
    house.signal("-TERM");
    house.wait_for_exit();
    drop(house);
    foreign.settings(&ground, &looks, "tls-alpn-01");
    let house = ground.start();
    certified(&house).await;
    house.wait_until("it is told no more", |house| found(house).is_null()).await;
}

/// Who has files is told so.
#[tokio::test(flavor = "multi_thread")]
async fn without_an_authority_there_is_nothing_to_renew() {
    let ground = Ground::new().await;
    let house = ground.start();
    assert_eq!(house.get("/certificate"), json!({"source": "none", "in_use": null, "renewal": null}));
    let (status, problem) = house.try_call("POST", "/certificate/renewal", None);
    assert!(status == 409 && problem["detail"].as_str().unwrap().contains("[authority]"), "{problem}");
}
