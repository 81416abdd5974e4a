//! What reaches out of the service: bridges to other brokers, and e-mail and web hooks to whoever is told of alerts.

pub mod bridge;
mod courier;
mod hook;
mod inbox;
mod mail;
mod not_sent;
mod reach;
mod settings;
mod weak_link;

pub use courier::Courier;
pub use inbox::Inbox;
pub use not_sent::NotSent;
pub use settings::{CourierSettings, HookSettings, MailSecurity, MailSettings, SettingsError};
pub use weak_link::WeakLink;
