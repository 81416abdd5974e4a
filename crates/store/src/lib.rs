//! What outlives the process: records in PostgreSQL, and the private PostgreSQL cluster that keeps them.

mod alerts;
mod audit;
mod authorities;
mod bans;
mod bridges;
mod changes;
mod cluster;
mod console_sessions;
mod database;
mod database_health;
mod derived;
mod desk_setups;
mod events;
mod history;
mod identities;
mod journal;
mod migrations;
mod owners;
mod people;
mod private_database;
mod revisions;
mod row;
mod rules_of_old;
mod tokens;

pub use alerts::{AlertChanges, NewNotice, NoticeQuery, NoticeRecord, QuietRecord, StandingRecord};
pub use audit::{AuditRecord, Author, Deed};
pub use authorities::AuthorityRecord;
pub use bans::BanRecord;
pub use bridges::BridgeRecord;
pub use changes::{Changes, SessionRow, SubscriptionRow};
pub use cluster::{ClusterError, PrivateCluster, closed_to};
pub use console_sessions::StoredSignIn;
pub use database::{Store, StoreError};
pub use database_health::{Asked, Database};
pub use desk_setups::DeskSetup;
pub use events::{EventQuery, EventRecord};
pub use history::{Point, Remark, Resolution, SeriesId, Span};
pub use identities::{IdentityRecord, IdentityRow};
pub use journal::{LastUsed, RetainedPage, Stored, StoredSession};
pub use people::PersonRecord;
pub use private_database::PrivateDatabase;
pub use revisions::RevisionRecord;

pub use tokens::{NewToken, TokenRecord};
