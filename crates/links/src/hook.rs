//! Web hooks: a POST with JSON, signed as the open Standard Webhooks convention writes it.

use std::{collections::BTreeMap, error::Error, net::IpAddr};

use base64::{Engine, engine::general_purpose::STANDARD};
use hmac::{Hmac, KeyInit, Mac};
use moorfall_contract::alerts::NoticeFacts;
use reqwest::{Client, StatusCode, Url, redirect::Policy};
use serde_json::json;
use sha2::Sha256;
use time::{OffsetDateTime, format_description::well_known::Rfc3339};

use crate::{
    not_sent::NotSent,
    reach::{NotFound, Resolver, is_private},
    settings::SettingsError,
};

/// Bytes of an answer that are told.
const TOLD: usize = 200;

/// Calls web hooks.
#[derive(Debug)]
pub(crate) struct Hooks {
    client: Client,
    secrets: BTreeMap<String, Vec<u8>>,
    private: bool,
}

impl Hooks {
    pub(crate) fn new(
        secrets: BTreeMap<String, Vec<u8>>,
        tls: impl std::any::Any,
        private: bool,
    ) -> Result<Self, SettingsError> {
        let client = Client::builder()
            .tls_backend_preconfigured(tls)
            .dns_resolver(Resolver { private }.shared())
            // Where the blueprint says, and nowhere else.
            .redirect(Policy::none())
            .no_proxy()
            .user_agent(concat!("moorfall/", env!("CARGO_PKG_VERSION")))
            .build()
            .map_err(|error| SettingsError::Tls(error.to_string()))?;
        Ok(Self { client, secrets, private })
    }

    pub(crate) async fn call(&self, contact: &str, target: &str, facts: &NoticeFacts) -> Result<String, NotSent> {
        let secret = self.secrets.get(contact).ok_or_else(|| NotSent::NoSecret(contact.to_owned()))?;
        let url = Url::parse(target).map_err(|error| NotSent::Address(error.to_string()))?;
        // An address that is written out is not looked up.
        let written = url.host_str().map(|host| host.trim_matches(['[', ']']));
        if let Some(address) = written.and_then(|host| host.parse::<IpAddr>().ok())
            && !self.private
            && is_private(address)
        {
            return Err(NotSent::Private(address.to_string()));
        }
        let kind = format!("alert.{}", facts.kind);
        let at = facts.at.format(&Rfc3339).unwrap_or_default();
        let body = json!({ "type": kind, "timestamp": at, "data": facts, "text": facts.title() }).to_string();
        let now = OffsetDateTime::now_utc().unix_timestamp();
        let called = self
            .client
            .post(url)
            .header("content-type", "application/json")
            .header("webhook-id", &facts.id)
            .header("webhook-timestamp", now)
            .header("webhook-signature", signature(secret, &facts.id, now, &body))
            .body(body)
            .send()
            .await;
        let mut answer = called.map_err(|error| not_called(&error))?;
        let status = answer.status();
        let mut words = status.to_string();
        if !status.is_success()
            && let Ok(Some(part)) = answer.chunk().await
        {
            let text = String::from_utf8_lossy(&part[..part.len().min(TOLD)]);
            let text: String = text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
            if !text.trim().is_empty() {
                words = format!("{words}: {}", text.trim());
            }
        }
        match status {
            status if status.is_success() => Ok(words),
            StatusCode::GONE => Err(NotSent::Gone(words)),
            status if status.is_redirection() => Err(NotSent::Answered(format!("{words}, which is not followed"))),
            _ => Err(NotSent::Answered(words)),
        }
    }
}

fn not_called(error: &reqwest::Error) -> NotSent {
    let mut cause: Option<&dyn Error> = Some(error);
    let mut last = String::new();
    while let Some(why) = cause {
        if let Some(not_found) = why.downcast_ref::<NotFound>() {
            return match not_found {
                NotFound::Private(name) => NotSent::Private(name.clone()),
                NotFound::Unknown(..) => NotSent::Unresolved(not_found.to_string()),
            };
        }
        last = why.to_string();
        cause = why.source();
    }
    NotSent::Connection(last)
}

/// The signature of a call: `v1,` and HMAC-SHA256 over identifier, time and body, in Base64.
fn signature(secret: &[u8], id: &str, seconds: i64, body: &str) -> String {
    let mut mac = Hmac::<Sha256>::new_from_slice(secret).expect("a key of any length is good");
    mac.update(format!("{id}.{seconds}.{body}").as_bytes());
    format!("v1,{}", STANDARD.encode(mac.finalize().into_bytes()))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The example of the convention's own text.
    #[test]
    fn calls_are_signed_as_the_convention_says() {
        let secret = STANDARD.decode("MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw").expect("Base64");
        let body = "{\"test\": 2432232314}";
        let signed = signature(&secret, "msg_p5jXN8AQM9LWM0D4loKWxJek", 1_614_265_330, body);
        assert_eq!(signed, "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE=");
    }
}
