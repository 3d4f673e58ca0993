//! What an authority does wrong, and what becomes of it. The proofs themselves are looked at by another authority, in the
//! tests of the service.
#![expect(clippy::unwrap_used, reason = "a test stops at the first surprise")]

use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use rstest::rstest;
use tokio::task::JoinHandle;
use tokio::time::timeout;
use tokio_util::sync::CancellationToken;
use waverant_acme::{Keeper, Progress, Proof, Wanted, placeholder};
use waverant_net::{ServerTls, TlsFiles};
use waverant_standin::{Certifier, CertifierCounts, CertifierFault};

/// Longer than the authority is asked while it does not decide.
const PATIENCE: Duration = Duration::from_secs(20);

fn wanted(certifier: &Certifier, folder: &Path) -> Wanted {
    Wanted {
        directory: certifier.directory().parse().unwrap(),
        trusted: Some(certifier.pem().to_owned()),
        names: ["relay.test", "watch.test"].map(|name| name.parse().unwrap()).to_vec(),
        contacts: vec!["mailto:harbour@wexcombe.example".to_owned()],
        proof: Proof::Http,
        binding: None,
        folder: folder.to_owned(),
    }
}

/// A keeper at work. It ends when it is dropped.
struct Running {
    keeper: Arc<Keeper>,
    tls: Arc<ServerTls>,
    stopping: CancellationToken,
    task: JoinHandle<()>,
}

impl Running {
    fn start(wanted: Wanted) -> Self {
        let file = wanted.certificate_file();
        let files = TlsFiles { certificate: file.clone(), key: file, tickets: 0 };
        let tls = ServerTls::open_or(files, || placeholder(&wanted.names)).unwrap();
        let (keeper, stopping) = (Keeper::new(wanted, tls.clone()), CancellationToken::new());
        tokio::spawn(tls.clone().follow_files(stopping.clone()));
        let task = tokio::spawn(keeper.clone().keep(stopping.clone()));
        Self { keeper, tls, stopping, task }
    }

    async fn until(&self, told: &str, is_there: impl Fn(&Progress) -> bool) -> Progress {
        let mut progress = self.keeper.progress();
        let found = timeout(PATIENCE, progress.wait_for(is_there)).await;
        let found = found.unwrap_or_else(|_| panic!("{told}: {:?}", self.keeper.progress().borrow()));
        found.unwrap().clone()
    }

    async fn stop(self) {
        self.stopping.cancel();
        timeout(PATIENCE, self.task).await.unwrap().unwrap();
    }
}

fn counts(accounts: usize, orders: usize, certificates: usize) -> CertifierCounts {
    CertifierCounts { accounts, orders, certificates }
}

#[tokio::test]
async fn a_certificate_comes_and_is_renewed_in_time() {
    let (ground, certifier) =
        (tempfile::tempdir().unwrap(), Certifier::start(Some(time::Duration::seconds(15))).await.unwrap());
    let running = Running::start(wanted(&certifier, ground.path()));
    assert!(running.tls.facts().borrow().as_ref().unwrap().is_placeholder);
    let first = running.until("the first", |progress| progress.renewed_at.is_some()).await;
    assert_eq!(certifier.counts(), counts(1, 1, 1));
    let mut facts = running.tls.facts();
    let is_real =
        |facts: &Option<Arc<waverant_net::CertificateFacts>>| facts.as_ref().is_some_and(|facts| !facts.is_placeholder);
    let serial = {
        let facts = timeout(PATIENCE, facts.wait_for(is_real)).await.unwrap().unwrap();
        let facts = facts.as_ref().unwrap();
        assert_eq!(facts.names, ["relay.test", "watch.test"]);
        assert_eq!(facts.issuer, "CN=Wexcombe Reach test authority");
        facts.serial.clone()
    };
    let second = running.until("the second", |progress| progress.renewed_at > first.renewed_at).await;
    assert!(second.renewed_at.unwrap() - first.renewed_at.unwrap() < time::Duration::seconds(15), "before it ended");
    assert_eq!((certifier.counts(), second.failures), (counts(1, 2, 2), 0));
    let is_other = |facts: &Option<Arc<waverant_net::CertificateFacts>>| {
        facts.as_ref().is_some_and(|facts| facts.serial != serial)
    };
    timeout(PATIENCE, facts.wait_for(is_other)).await.unwrap().unwrap();
    running.stop().await;
}

#[rstest]
#[case::away(CertifierFault::Away, "localhost answers 503")]
#[case::too_often(CertifierFault::RateLimited(7200), "asked too often")]
#[case::no_proof(CertifierFault::NoProof, "proving relay.test: the authority says: Connection refused (connection)")]
#[case::other_proof(CertifierFault::OtherProof, "takes no http-01 for relay.test: it offers dns-01")]
#[case::wrong_name(CertifierFault::WrongName, "it is for elsewhere.test only")]
#[case::ended(CertifierFault::Ended, "it ended at")]
#[case::nonsense(CertifierFault::Nonsense, "cannot be used")]
#[case::endless(CertifierFault::Endless, "is longer than 262144 bytes")]
#[case::never_a_nonce(CertifierFault::BadNonce(u32::MAX), "badNonce")]
#[tokio::test]
async fn a_fault_is_told_and_the_next_try_begins_anew(#[case] fault: CertifierFault, #[case] told: &str) {
    let (ground, certifier) = (tempfile::tempdir().unwrap(), Certifier::start(None).await.unwrap());
    certifier.set_fault(fault);
    let running = Running::start(wanted(&certifier, ground.path()));
    let failed = running.until("a fault", |progress| progress.fault.is_some()).await;
    let (at, cause) = failed.fault.unwrap();
    assert!(cause.contains(told), "{cause}");
    let wait = failed.next_at.unwrap() - at;
    let expected = if matches!(fault, CertifierFault::RateLimited(_)) { 7200 } else { 60 };
    assert_eq!((wait.whole_seconds(), failed.failures, failed.is_at_work), (expected, 1, false));
    assert!(running.tls.facts().borrow().as_ref().unwrap().is_placeholder);

    certifier.set_fault(CertifierFault::None);
    assert!(running.keeper.renew());
    let renewed = running.until("the next", |progress| progress.renewed_at.is_some()).await;
    assert_eq!((renewed.failures, renewed.fault, renewed.is_at_work), (0, None, false));
    running.stop().await;
}

#[tokio::test]
async fn a_nonce_that_is_not_taken_is_replaced() {
    let (ground, certifier) = (tempfile::tempdir().unwrap(), Certifier::start(None).await.unwrap());
    certifier.set_fault(CertifierFault::BadNonce(2));
    let running = Running::start(wanted(&certifier, ground.path()));
    let done =
        running.until("a certificate", |progress| progress.renewed_at.is_some() || progress.fault.is_some()).await;
    assert_eq!(done.fault, None);
    running.stop().await;
}

/// A stop between two steps: the next run goes on with the same order and account.
#[tokio::test]
async fn an_order_goes_on_after_a_restart() {
    let (ground, certifier) = (tempfile::tempdir().unwrap(), Certifier::start(None).await.unwrap());
    certifier.set_fault(CertifierFault::Undecided);
    let running = Running::start(wanted(&certifier, ground.path()));
    while !ground.path().join("order.json").exists() {
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    tokio::time::sleep(Duration::from_millis(500)).await;
    assert!(!running.keeper.renew(), "it is at work");
    running.stop().await;
    certifier.set_fault(CertifierFault::None);
    let running = Running::start(wanted(&certifier, ground.path()));
    running.until("a certificate", |progress| progress.renewed_at.is_some()).await;
    assert_eq!(certifier.counts(), counts(1, 1, 1));
    running.stop().await;

    // One that is good is not ordered again; other names are.
    let running = Running::start(wanted(&certifier, ground.path()));
    let waiting = running.until("when it is due", |progress| progress.next_at.is_some()).await;
    assert!(waiting.next_at.unwrap() > time::OffsetDateTime::now_utc() + time::Duration::days(50));
    running.stop().await;
    let mut more = wanted(&certifier, ground.path());
    more.names.push("pontoon.test".parse().unwrap());
    let running = Running::start(more);
    running.until("a certificate", |progress| progress.renewed_at.is_some()).await;
    assert_eq!(certifier.counts(), counts(1, 2, 2));
    running.stop().await;
}

#[tokio::test]
async fn an_authority_that_forgot_us_is_told_anew() {
    let (ground, certifier) = (tempfile::tempdir().unwrap(), Certifier::start(None).await.unwrap());
    let running = Running::start(wanted(&certifier, ground.path()));
    let first = running.until("a certificate", |progress| progress.renewed_at.is_some()).await;
    certifier.forget();
    assert!(running.keeper.renew());
    running.until("another", |progress| progress.renewed_at > first.renewed_at).await;
    assert_eq!(certifier.counts(), counts(2, 2, 2));
    running.stop().await;
}

/// A disk that takes nothing more when the certificate has come: it is fetched again, and not ordered again.
#[tokio::test]
async fn what_cannot_be_written_is_fetched_again() {
    let (ground, certifier) = (tempfile::tempdir().unwrap(), Certifier::start(None).await.unwrap());
    certifier.set_fault(CertifierFault::Undecided);
    let running = Running::start(wanted(&certifier, ground.path()));
    while !ground.path().join("order.json").exists() {
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    let in_the_way = ground.path().join("certificate.pem");
    std::fs::create_dir(&in_the_way).unwrap();
    certifier.set_fault(CertifierFault::None);
    let failed = running.until("a fault", |progress| progress.fault.is_some()).await;
    let (_, cause) = failed.fault.unwrap();
    assert!(cause.contains("cannot be written") && cause.contains("has room"), "{cause}");
    assert!(running.tls.facts().borrow().as_ref().unwrap().is_placeholder, "what is in use stays");
    std::fs::remove_dir(&in_the_way).unwrap();
    assert!(running.keeper.renew());
    running.until("a certificate", |progress| progress.renewed_at.is_some()).await;
    assert_eq!(certifier.counts(), counts(1, 1, 2));
    running.stop().await;
}
