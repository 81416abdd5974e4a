//! What reaches out of the service, to whoever is told of alerts: e-mail and web hooks.

mod courier;
mod hook;
mod inbox;
mod mail;
mod not_sent;
mod reach;
mod settings;

pub use courier::Courier;
pub use inbox::Inbox;
pub use not_sent::NotSent;
pub use settings::{CourierSettings, HookSettings, MailSecurity, MailSettings, SettingsError};
