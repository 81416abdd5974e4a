//! What reaches out of the service, or makes something of what passes: bridges to other brokers, derived topics, and e-mail
//! and web hooks to whoever is told of alerts.

pub mod bridge;
mod courier;
pub mod derived;
mod hook;
mod inbox;
mod inside;
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
