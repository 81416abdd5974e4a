//! Brings notices to people and programs.

use std::collections::BTreeMap;

use base64::{Engine, engine::general_purpose::STANDARD};
use moorfall_client::Trust;
use moorfall_contract::{alerts::NoticeFacts, kinds::NoticeWay};
use tokio::time::timeout;

use crate::{
    hook::Hooks,
    mail::Mail,
    not_sent::{LONGEST, NotSent},
    settings::{CourierSettings, SECRET, SettingsError, read},
};

/// Brings notices.
#[derive(Debug)]
pub struct Courier {
    mail: Option<Mail>,
    hooks: Hooks,
}

impl Courier {
    /// Reads all files that the settings name.
    ///
    /// # Errors
    ///
    /// A file can't be read or does not hold what it should; the sender is not an address.
    pub fn new(settings: &CourierSettings) -> Result<Self, SettingsError> {
        let CourierSettings { mail, hooks } = settings;
        let mut secrets = BTreeMap::new();
        for (contact, path) in &hooks.secrets {
            let text = read(path)?;
            // The convention writes keys in Base64 behind this mark.
            let secret = text.strip_prefix("whsec_").and_then(|text| STANDARD.decode(text).ok());
            let secret = secret.unwrap_or_else(|| text.into_bytes());
            if secret.len() < SECRET {
                return Err(SettingsError::Short(path.clone()));
            }
            secrets.insert(contact.clone(), secret);
        }
        let trust = Trust { authority: hooks.authority.clone(), ..Trust::default() };
        let hooks = Hooks::new(secrets, trust.config()?, hooks.private_addresses)?;
        Ok(Self { mail: mail.as_ref().map(Mail::new).transpose()?, hooks })
    }

    /// Sends a notice; gives what was answered.
    ///
    /// # Errors
    ///
    /// It was not taken. A way of [`NoticeWay::Topic`] is none of a courier.
    pub async fn send(
        &self,
        way: NoticeWay,
        (contact, target): (&str, &str),
        facts: &NoticeFacts,
    ) -> Result<String, NotSent> {
        let sending = async {
            match way {
                NoticeWay::Mail => self.mail.as_ref().ok_or(NotSent::NoMailServer)?.send(target, facts).await,
                NoticeWay::Hook => self.hooks.call(contact, target, facts).await,
                NoticeWay::Topic => Err(NotSent::Address(format!("{target} is a topic"))),
            }
        };
        timeout(LONGEST, sending).await.unwrap_or(Err(NotSent::TimedOut(LONGEST)))
    }
}
