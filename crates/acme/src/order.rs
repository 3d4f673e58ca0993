use std::time::Duration;

use instant_acme::{
    Account, AuthorizationStatus, ChallengeStatus, ChallengeType, Error, ExternalAccountKey, Identifier, NewAccount,
    NewOrder, Order, OrderStatus, RetryPolicy,
};
use rcgen::{CertificateParams, DistinguishedName, KeyPair};
use rustls::ServerConfig;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use time::OffsetDateTime;
use waverant_net::{CertificateFacts, Challenges};

use crate::client::Client;
use crate::folder::{Folder, StoredAccount, StoredOrder};
use crate::proof::handshake_proof;
use crate::schedule::due;
use crate::{Fault, Proof, Wanted};

/// How an authority is asked whether it has come to a decision.
const PATIENCE: RetryPolicy =
    RetryPolicy::new().initial_delay(Duration::from_millis(300)).backoff(1.5).timeout(Duration::from_secs(90));

/// Has a certificate made, and writes it into the folder. Goes on where an earlier one was broken off.
///
/// Source: RFC 8555, 7.1
pub(crate) async fn obtain(wanted: &Wanted, challenges: &Challenges) -> Result<CertificateFacts, Fault> {
    let client = Client::new(wanted)?;
    let folder = Folder::open(&wanted.folder)?;
    let errand = Errand { wanted, client: &client, folder: &folder, shown: Shown(challenges) };
    let mut outcome = errand.run().await;
    if outcome.as_ref().is_err_and(|fault| fault.is_unknown_account) {
        tracing::warn!("the authority does not know our account any more; another one is opened");
        folder.forget_account();
        outcome = errand.run().await;
    }
    outcome.map_err(|fault| fault.wait(client.wait()))
}

/// What is shown while it runs: nothing stays there, however it ends.
struct Shown<'a>(&'a Challenges);

impl Drop for Shown<'_> {
    fn drop(&mut self) {
        self.0.clear();
    }
}

struct Errand<'a> {
    wanted: &'a Wanted,
    client: &'a Client,
    folder: &'a Folder,
    shown: Shown<'a>,
}

impl Errand<'_> {
    async fn run(&self) -> Result<CertificateFacts, Fault> {
        let account = self.account().await?;
        let (mut order, stored) = self.order(&account).await?;
        if order.state().status == OrderStatus::Pending {
            self.prove(&mut order).await?;
        }
        if order.state().status == OrderStatus::Ready {
            let request = request(&stored).map_err(|error| Fault::ours(&error))?;
            order.finalize_csr(&request).await.map_err(|error| Fault::met("asking for the certificate", &error))?;
        }
        let chain = order.poll_certificate(&PATIENCE).await;
        let chain = chain.map_err(|error| {
            if matches!(error, Error::Api(_)) {
                self.folder.forget_order();
            }
            Fault::met("fetching the certificate", &error)
        })?;
        let facts = self.check(&chain, &stored.key).inspect_err(|_| self.folder.forget_order())?;
        self.folder.keep_certificate(&chain, &stored.key)?;
        self.folder.forget_order();
        Ok(facts)
    }

    /// The account that we have, with the contacts of now; or a new one.
    async fn account(&self) -> Result<Account, Fault> {
        let (directory, contacts) = (self.wanted.directory.as_str(), &self.wanted.contacts);
        let told: Vec<&str> = contacts.iter().map(String::as_str).collect();
        let builder = Account::builder_with_http(Box::new(self.client.clone()));
        let met = |error: Error| Fault::met("opening an account", &error);
        let Some(stored) = self.folder.account(directory) else {
            let account = NewAccount { contact: &told, terms_of_service_agreed: true, only_return_existing: false };
            let binding = self.wanted.binding.clone();
            let binding = binding.map(|binding| ExternalAccountKey::new(binding.id, &binding.key));
            let (account, credentials) =
                builder.create(&account, directory.to_owned(), binding.as_ref()).await.map_err(met)?;
            let (directory, contacts) = (directory.to_owned(), contacts.clone());
            self.folder.keep_account(&StoredAccount { directory, contacts, credentials })?;
            return Ok(account);
        };
        let copied = serde_json::to_string(&stored.credentials).and_then(|text| serde_json::from_str(&text));
        let credentials = copied.map_err(|error| Fault::ours(&error))?;
        let account = builder.from_credentials(credentials).await.map_err(met)?;
        if &stored.contacts != contacts {
            account.update_contacts(&told).await.map_err(|error| Fault::met("telling the new contacts", &error))?;
            self.folder.keep_account(&StoredAccount { contacts: contacts.clone(), ..stored })?;
        }
        Ok(account)
    }

    /// The order that was begun, if it is still good; or a new one.
    async fn order(&self, account: &Account) -> Result<(Order, StoredOrder), Fault> {
        let directory = self.wanted.directory.as_str();
        let names: Vec<String> = self.wanted.names.iter().map(ToString::to_string).collect();
        let met = |error: &Error| Fault::met("ordering", error);
        if let Some(stored) = self.folder.order(directory, &names) {
            match account.order(stored.url.clone()).await {
                Ok(mut order) => {
                    if order.state().status != OrderStatus::Invalid {
                        return Ok((order, stored));
                    }
                }
                Err(error) if !matches!(error, Error::Api(_)) || met(&error).is_unknown_account => {
                    return Err(met(&error));
                }
                Err(_) => {}
            }
            self.folder.forget_order();
        }
        let identifiers: Vec<Identifier> = self.wanted.names.iter().map(|name| name.identifier()).collect();
        let order = account.new_order(&NewOrder::new(&identifiers)).await.map_err(|error| met(&error))?;
        let key = KeyPair::generate().map_err(|error| Fault::ours(&error))?.serialize_pem();
        let stored = StoredOrder { directory: directory.to_owned(), names, url: order.url().to_owned(), key };
        self.folder.keep_order(&stored)?;
        Ok((order, stored))
    }

    /// Shows for every name that it is ours, and waits until the authority has seen it.
    async fn prove(&self, order: &mut Order) -> Result<(), Fault> {
        let met = |error: Error| Fault::met("proving the names", &error);
        let mut authorizations = order.authorizations();
        while let Some(next) = authorizations.next().await {
            let mut authorization = next.map_err(met)?;
            if authorization.status == AuthorizationStatus::Valid {
                continue;
            }
            let told = authorization.identifier().to_string();
            let offered: Vec<String> = authorization.challenges.iter().map(|one| word(&one.r#type)).collect();
            let name = self.wanted.names.iter().find(|name| name.to_string() == told);
            let name =
                name.ok_or_else(|| Fault::new(format!("the authority asks for `{told}`, which is not ordered")))?;
            let proof = self.wanted.proof;
            let Some(mut challenge) = authorization.challenge(proof.challenge()) else {
                let offered = offered.join(", ");
                return Err(Fault::new(format!("the authority takes no {proof} for {told}: it offers {offered}")));
            };
            let authorization = challenge.key_authorization();
            match proof {
                Proof::Http => self.shown.0.show_answer(&challenge.token, authorization.as_str()),
                Proof::Tls => {
                    let (certificate, key) = handshake_proof(name, &authorization)?;
                    let shown = self.shown.0.show_certificate(&name.in_handshake(), certificate, key);
                    shown.map_err(|error| Fault::ours(&error))?;
                }
            }
            // One of an order that goes on may be looked at already.
            if challenge.status == ChallengeStatus::Pending {
                challenge.set_ready().await.map_err(met)?;
            }
        }
        match order.poll_ready(&PATIENCE).await {
            Ok(OrderStatus::Ready) => Ok(()),
            Ok(_) => Err(self.unproven(order, None).await),
            Err(Error::Api(problem)) => {
                Err(self.unproven(order, Some(Fault::refused("proving the names", &problem))).await)
            }
            Err(error) => Err(met(error)),
        }
    }

    /// Why the authority did not see that the names are ours, as it says of each.
    async fn unproven(&self, order: &mut Order, fault: Option<Fault>) -> Fault {
        self.folder.forget_order();
        let mut told = Vec::new();
        let mut authorizations = order.authorizations();
        while let Some(Ok(mut authorization)) = authorizations.next().await {
            let Ok(state) = authorization.refresh().await else { continue };
            let name = state.identifier().to_string();
            let problems = state.challenges.iter().filter_map(|challenge| challenge.error.as_ref());
            told.extend(problems.map(|problem| Fault::refused(&format!("proving {name}"), problem).told));
        }
        let proof = self.wanted.proof;
        let needs = format!("{proof} needs this: {}", proof.needs());
        match (told.is_empty(), fault) {
            (false, _) => Fault::new(format!("{}. {needs}", told.join("; "))),
            (true, Some(fault)) => Fault { told: format!("{}. {needs}", fault.told), ..fault },
            (true, None) => Fault::new(format!("the authority did not see that the names are ours. {needs}")),
        }
    }

    /// Nothing takes the place of a certificate that is good but one that is better.
    fn check(&self, chain: &str, key: &str) -> Result<CertificateFacts, Fault> {
        let wrong = |told: String| Fault::new(format!("the certificate that came cannot be used: {told}"));
        let certificates: Result<Vec<_>, _> = CertificateDer::pem_slice_iter(chain.as_bytes()).collect();
        let certificates = certificates.map_err(|error| wrong(error.to_string()))?;
        let facts = certificates.first().and_then(|certificate| CertificateFacts::of(certificate));
        let facts = facts.ok_or_else(|| wrong("it cannot be read".to_owned()))?;
        let key = PrivateKeyDer::from_pem_slice(key.as_bytes()).map_err(|error| wrong(error.to_string()))?;
        let config = ServerConfig::builder().with_no_client_auth().with_single_cert(certificates, key);
        config.map_err(|error| wrong(error.to_string()))?;
        let now = OffsetDateTime::now_utc();
        if facts.ends <= now {
            return Err(wrong(format!("it ended at {}; is this machine's clock right?", facts.ends)));
        }
        if due(Some(&facts), &self.wanted.names, now) == now {
            return Err(wrong(format!("it is for {} only", facts.names.join(", "))));
        }
        Ok(facts)
    }
}

/// What a proof is called in the standard.
fn word(kind: &ChallengeType) -> String {
    match kind {
        ChallengeType::Http01 => "http-01".to_owned(),
        ChallengeType::Dns01 => "dns-01".to_owned(),
        ChallengeType::TlsAlpn01 => "tls-alpn-01".to_owned(),
        ChallengeType::Unknown(word) => word.chars().take(40).collect(),
        _ => "another one".to_owned(),
    }
}

/// The request that an authority signs (RFC 2986): for the names, which need no subject beside them.
fn request(order: &StoredOrder) -> Result<Vec<u8>, rcgen::Error> {
    let key = KeyPair::from_pem(&order.key)?;
    let mut params = CertificateParams::new(order.names.clone())?;
    params.distinguished_name = DistinguishedName::new();
    Ok(params.serialize_request(&key)?.der().to_vec())
}
