//! What reaches out of the service, to whoever is told of alerts: e-mail and web hooks.

mod courier;
mod hook;
mod inbox;
mod mail;
mod reach;

pub use inbox::Inbox;

pub use courier::{Courier, CourierSettings, HookSettings, MailSecurity, MailSettings, NotSent, SettingsError};
