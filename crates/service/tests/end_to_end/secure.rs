//! RTMP over TLS, in and out.

use std::sync::Arc;
use std::time::Duration;

use rstest::rstest;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;
use waverant_standin::{Authority, Clip, Encoder, EncoderEnd, PlatformOptions, Validity, compare};

use crate::house::{Ground, House, PATIENCE, PLATFORM_KEY, clip};

/// Writes a certificate for encoders where the settings name it.
pub(crate) fn write_certificate(ground: &Ground, authority: &Authority) {
    let issued = authority.issue("localhost", Validity::Good).unwrap();
    std::fs::write(ground.path("certificate.pem"), issued.certificate).unwrap();
    std::fs::write(ground.path("key.pem"), issued.key).unwrap();
}

pub(crate) fn use_certificate(ground: &Ground) {
    let (certificate, key) = (ground.path("certificate.pem"), ground.path("key.pem"));
    ground.write_settings(&format!(
        "[tls]\ncertificate = \"{}\"\nkey = \"{}\"\n",
        certificate.display(),
        key.display()
    ));
    let settings = std::fs::read_to_string(ground.path("waverant.toml")).unwrap();
    let settings = settings.replace(
        "[listen]\n",
        "[listen]\nrtmps = \"127.0.0.1:0\"\nhttps = \"127.0.0.1:0\"\nviewing_https = \"127.0.0.1:0\"\n",
    );
    std::fs::write(ground.path("waverant.toml"), settings).unwrap();
}

async fn publish_secure(house: &House<'_>, key: &str, authority: &Authority) -> anyhow::Result<EncoderEnd> {
    let mut options = house.encoder(key, 1.5);
    options.server = format!("rtmps://localhost:{}/in", house.rtmps.unwrap().port());
    options.authority = Some(authority.pem().to_owned());
    Ok(Encoder::new(clip(), options).run().await?.end)
}

/// Encoders come in over TLS, with our certificate; when the files change, new connections get
/// the new one, and a broken one is not taken.
#[tokio::test(flavor = "multi_thread")]
async fn encoders_come_in_over_tls_and_the_certificate_is_exchanged_while_running() {
    let ground = Ground::new().await;
    let (first, second) = (Authority::new().unwrap(), Authority::new().unwrap());
    write_certificate(&ground, &first);
    use_certificate(&ground);
    let house = ground.start();
    let key = house.make_channel(0);
    assert_eq!(publish_secure(&house, &key, &first).await.unwrap(), EncoderEnd::Finished);
    assert!(publish_secure(&house, &key, &second).await.is_err(), "signed by another authority");
    let shown = house.call("POST", "/channels/finish-line/keys", Some(serde_json::json!({"label": "tls"})));
    let expected = format!("rtmps://127.0.0.1:{}/in", house.rtmps.unwrap().port());
    assert_eq!(shown["encoder"]["secure_server"], expected);
    let form = serde_json::json!({"label": "tls alone", "protocols": ["rtmps"]});
    let made = house.call("POST", "/channels/finish-line/keys", Some(form));
    let only = made["encoder"]["key"].as_str().unwrap();
    assert!(matches!(house.publish(house.encoder(only, 1.0)).await.end, EncoderEnd::Refused { .. }));
    assert_eq!(publish_secure(&house, only, &first).await.unwrap(), EncoderEnd::Finished);
    let used = || house.get("/channels/finish-line/keys")[2]["last_use"]["protocol"].clone();
    house.wait_until("it is noted", |_| used() == "rtmps").await;

    write_certificate(&ground, &second);
    house.wait_until("the new one is in use", |house| house.ground.log().contains("new certificate is in use")).await;
    assert_eq!(publish_secure(&house, &key, &second).await.unwrap(), EncoderEnd::Finished);
    std::fs::write(ground.path("certificate.pem"), "no certificate").unwrap();
    house.wait_until("it is told", |house| house.ground.log().contains("new certificate cannot be used")).await;
    assert_eq!(publish_secure(&house, &key, &second).await.unwrap(), EncoderEnd::Finished);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_certificate_that_cannot_be_used_is_named_at_the_start() {
    let ground = Ground::new().await;
    write_certificate(&ground, &Authority::new().unwrap());
    std::fs::write(ground.path("key.pem"), "no key").unwrap();
    use_certificate(&ground);
    let (code, errors) = ground.run_to_end();
    assert_eq!(code, Some(2));
    assert!(errors.contains("key.pem: a PEM private key was expected"), "{errors}");
    let output = ground.command().arg("check").output().unwrap();
    assert!(String::from_utf8_lossy(&output.stdout).contains("FAIL"), "check says so too");
}

/// An encoder that speaks no TLS on the TLS port is told in the list.
#[tokio::test(flavor = "multi_thread")]
async fn plain_rtmp_on_the_tls_port_is_listed() {
    let ground = Ground::new().await;
    write_certificate(&ground, &Authority::new().unwrap());
    use_certificate(&ground);
    let house = ground.start();
    let mut options = house.encoder("key", 1.0);
    options.server = format!("rtmp://{}/in", house.rtmps.unwrap());
    let end = Encoder::new(clip(), options).run().await.unwrap().end;
    assert_eq!(end, EncoderEnd::Closed);
    house.wait_until("it is listed", |house| house.get("/turned-away")["items"][0].is_object()).await;
    let detail = house.get("/turned-away")["items"][0]["detail"].as_str().unwrap().to_owned();
    assert!(detail.contains("this port takes rtmps:// only"), "{detail}");
}

/// A platform over TLS gets the whole show; the tail is not lost when the connection closes.
#[tokio::test(flavor = "multi_thread")]
async fn a_platform_over_tls_gets_the_whole_show() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let platform = house.add_secure_platform("plovio").await;
    let sent = house.publish(house.encoder(&key, 4.0)).await;
    assert!(platform.wait_for(PATIENCE, |report| report.connections[0].was_ended).await);
    let report = platform.report();
    assert_eq!(report.connections.len(), 1);
    assert_eq!(compare(&sent.sent, &report.connections[0].received, true).fault, None);
}

/// Session tickets break some old encoders: by default none are sent, and the setting is obeyed.
#[rstest]
#[case::by_default("", 0)]
#[case::as_set("session_tickets = 2\n", 2)]
#[tokio::test(flavor = "multi_thread")]
async fn encoders_get_as_many_session_tickets_as_set(#[case] setting: &str, #[case] expected: u32) {
    let ground = Ground::new().await;
    let authority = Authority::new().unwrap();
    write_certificate(&ground, &authority);
    use_certificate(&ground);
    let settings = std::fs::read_to_string(ground.path("waverant.toml")).unwrap();
    std::fs::write(ground.path("waverant.toml"), settings.replace("[tls]\n", &format!("[tls]\n{setting}"))).unwrap();
    let house = ground.start();
    let mut roots = rustls::RootCertStore::empty();
    roots.add(CertificateDer::from_pem_slice(authority.pem().as_bytes()).unwrap()).unwrap();
    let config = rustls::ClientConfig::builder().with_root_certificates(roots).with_no_client_auth();
    let stream = TcpStream::connect(house.rtmps.unwrap()).await.unwrap();
    let connector = TlsConnector::from(Arc::new(config));
    let mut stream = connector.connect(ServerName::try_from("localhost").unwrap(), stream).await.unwrap();
    // The server speaks first only after a handshake of RTMP; its tickets lie before that.
    let mut hello = vec![3];
    hello.resize(1 + 1536, 7);
    stream.write_all(&hello).await.unwrap();
    stream.read_exact(&mut vec![0; 1 + 2 * 1536]).await.unwrap();
    assert_eq!(stream.get_ref().1.tls13_tickets_received(), expected);
}

/// What is wrong with a platform's certificate is said in words.
#[rstest]
#[case::unknown_authority("localhost", Validity::Good, false, "signed by no authority that is trusted here")]
#[case::expired("localhost", Validity::Expired, true, "its certificate has expired")]
#[case::not_yet("localhost", Validity::NotYet, true, "not valid yet")]
#[case::another_name("quayside.test", Validity::Good, true, "for another name than `localhost`")]
#[tokio::test(flavor = "multi_thread")]
async fn a_bad_certificate_is_explained(
    #[case] name: &str,
    #[case] validity: Validity,
    #[case] is_known: bool,
    #[case] expected: &str,
) {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let authority = Authority::new().unwrap();
    let tls = Some(authority.issue(name, validity).unwrap().server_config().unwrap());
    let options = PlatformOptions { tls, ..PlatformOptions::new(PLATFORM_KEY) };
    let platform = house.add_platform_with("plovio", options, is_known.then_some(authority.pem())).await;
    let publish = Encoder::new(Clip::made(&["h264", "aac"]).unwrap(), house.encoder(&key, 2.0)).run();
    let watch = async {
        house.wait_until("the leg says it", |house| house.leg("plovio")["reason"].is_string()).await;
        house.leg("plovio")["reason"].as_str().unwrap().to_owned()
    };
    let (_, reason) = tokio::join!(publish, watch);
    assert!(reason.contains(expected), "{reason}");
    assert!(platform.report().connections.iter().all(|connection| connection.received.is_empty()));
}

/// `rtmps://` to a port that speaks no TLS.
#[tokio::test(flavor = "multi_thread")]
async fn a_platform_without_tls_is_explained() {
    let ground = Ground::new().await;
    let house = ground.start();
    let key = house.make_channel(0);
    let platform = house.add_platform("plovio", None).await;
    let address = format!("rtmps://{}/live", platform.address());
    house.call("PATCH", "/destinations/plovio", Some(serde_json::json!({"address": address})));
    let publish = Encoder::new(clip(), house.encoder(&key, 8.0)).run();
    let watch = async {
        house.wait_until("the leg says it", |house| house.leg("plovio")["reason"].is_string()).await;
        house.leg("plovio")["reason"].as_str().unwrap().to_owned()
    };
    let (_, reason) =
        tokio::time::timeout(Duration::from_secs(30), async { tokio::join!(publish, watch) }).await.unwrap();
    assert!(reason.contains("TLS"), "{reason}");
    let (status, answer) = house.try_call("PATCH", "/destinations/plovio", Some(serde_json::json!({"authority": "x"})));
    assert_eq!(status, 422);
    assert!(answer["detail"].as_str().unwrap().starts_with("authority: a PEM certificate was expected"), "{answer}");
}
