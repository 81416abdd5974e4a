//! The identities, held in memory so that sign-in works while the database is away, and written to the database first.
use std::{
    collections::{BTreeMap, HashMap, HashSet},
    net::IpAddr,
    sync::Arc,
};

use foldhash::fast::RandomState;
use moorfall_contract::identities::{IdentityDraft, IdentityImport, IdentityView, ImportEffect};
use moorfall_core::{BUILT_IN, Identity, Limits, certificate::ClientCertificate, names, session::NoEntry};
use moorfall_store::{Author, Deed, IdentityRecord, IdentityRow, Store, StoreError};
use serde_json::json;
use tokio::sync::Mutex;
use tracing_mutex::parkinglot::RwLock;

use crate::{
    clock::Clock,
    identity::{
        checks::{DirectoryError, ImportFault, check_name, check_size, read_matches},
        generated_secret::{self, GeneratedSecret},
        passwords::{self, Checked, Guess, KnownAgain, PASSWORD_LENGTH, Passwords},
    },
};

fn shown(record: &IdentityRecord) -> IdentityView {
    IdentityView {
        name: record.name.clone(),
        attributes: record.attributes.0.clone(),
        has_password: record.password_hash.is_some(),
        enabled: record.enabled,
        note: record.note.clone(),
        client_id: record.client_id.clone(),
        certificates: record.certificates.0.clone(),
        created_at: record.created_at,
        changed_at: record.changed_at,
    }
}

/// What a change of an identity means to its live sessions.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Impact {
    /// Nothing.
    None,
    /// The rules see something else of it.
    OtherRights,
    /// They have to end.
    SignInAgain,
}

/// What a sign-in by password came to.
#[derive(Debug)]
pub enum SignIn {
    /// It is who it says.
    Known(Identity),
    /// It may not connect now.
    Disabled,
    /// The name or what was shown is wrong.
    Wrong,
    /// As many of its address wait for their turn as may.
    TooMany,
}

/// Whose a certificate is.
#[derive(Debug, PartialEq, Eq)]
pub enum Whose {
    /// This identity's.
    Of(String),
    /// No identity has it.
    Nobody,
    /// Its matches are those of two identities.
    Both(String, String),
}

/// An identity, and whether its password was right before.
#[derive(Clone, Debug)]
struct Entry {
    record: Arc<IdentityRecord>,
    known_again: KnownAgain,
}

#[derive(Debug, Default)]
struct Known {
    records: HashMap<String, Entry, RandomState>,
    /// The name of the identity that each match of a certificate is of.
    matches: HashMap<String, String, RandomState>,
    /// The names of the identities that each client identifier is tied to.
    tied: HashMap<String, Vec<String>, RandomState>,
}

impl Known {
    /// Gives what was there before.
    fn put(&mut self, record: Arc<IdentityRecord>) -> Option<Arc<IdentityRecord>> {
        let old = self.remove(&record.name);
        self.matches.extend(record.certificates.0.iter().map(|one| (one.clone(), record.name.clone())));
        if let Some(client_id) = &record.client_id {
            self.tied.entry(client_id.clone()).or_default().push(record.name.clone());
        }
        let same = old.as_ref().filter(|old| old.record.password_hash == record.password_hash);
        let known_again = same.map(|old| old.known_again.clone()).unwrap_or_default();
        self.records.insert(record.name.clone(), Entry { record, known_again });
        old.map(|old| old.record)
    }

    fn get(&self, name: &str) -> Option<&Arc<IdentityRecord>> {
        self.records.get(name).map(|entry| &entry.record)
    }

    fn all(&self) -> impl Iterator<Item = &Arc<IdentityRecord>> {
        self.records.values().map(|entry| &entry.record)
    }

    fn remove(&mut self, name: &str) -> Option<Entry> {
        let Entry { record: old, known_again } = self.records.remove(name)?;
        if let Some(client_id) = &old.client_id
            && let Some(owners) = self.tied.get_mut(client_id)
        {
            owners.retain(|owner| owner != name);
            if owners.is_empty() {
                self.tied.remove(client_id);
            }
        }
        // A match may have gone to another identity in the same import.
        for one in &old.certificates.0 {
            if self.matches.get(one).is_some_and(|owner| owner == name) {
                self.matches.remove(one);
            }
        }
        Some(Entry { record: old, known_again })
    }
}

/// All identities.
#[derive(Debug)]
pub struct Directory {
    store: Store,
    known: RwLock<Known>,
    /// Changes are made one at a time, so that memory and database agree.
    changing: Mutex<()>,
    /// Those that people chose.
    pub passwords: Passwords,
}

impl Directory {
    /// All that are stored.
    pub async fn load(store: Store, clock: Clock) -> Result<Self, StoreError> {
        let mut known = Known::default();
        for record in store.identities().await? {
            known.put(Arc::new(record));
        }
        let passwords = Passwords::start(clock);
        Ok(Self { store, known: RwLock::new(known), changing: Mutex::new(()), passwords })
    }

    /// The first identities by name, behind this one, whose name, note or an attribute holds this text.
    pub fn list(&self, search: &str, after: Option<&str>, limit: usize) -> Vec<IdentityView> {
        let matches = |record: &&Arc<IdentityRecord>| {
            let mut attributes = record.attributes.0.iter();
            let is_behind = after.is_none_or(|after| *record.name > *after);
            let matches = record.name.contains(search)
                || record.note.contains(search)
                || attributes.any(|(name, value)| format!("{name}={value}").contains(search));
            is_behind && matches
        };
        let mut found: Vec<_> = self.known.read().all().filter(matches).cloned().collect();
        found.sort_by(|one, other| one.name.cmp(&other.name));
        found.truncate(limit);
        found.iter().map(|record| shown(record)).collect()
    }

    /// All identities as the rules see them, in no order.
    pub fn identities(&self) -> Vec<Identity> {
        self.known.read().all().map(|record| seen(record)).collect()
    }

    /// One identity as the rules see it.
    pub fn identity(&self, name: &str) -> Option<Identity> {
        self.known.read().get(name).map(|record| seen(record))
    }

    /// How many there are.
    pub fn count(&self) -> usize {
        self.known.read().records.len()
    }

    /// One as the interface shows it.
    pub fn get(&self, name: &str) -> Option<IdentityView> {
        self.known.read().get(name).map(|record| shown(record))
    }

    /// Why nobody of this name can be connected now; `None` if they can. The built-in names always can.
    pub fn no_entry(&self, name: &str) -> Option<NoEntry> {
        if BUILT_IN.contains(&name) {
            return None;
        }
        match self.known.read().get(name) {
            None => Some(NoEntry::Unknown),
            Some(record) => (!record.enabled).then_some(NoEntry::Disabled),
        }
    }

    /// Hashes a password.
    pub async fn hash(&self, password: String) -> Result<String, DirectoryError> {
        Ok(self.passwords.make(password).await?)
    }

    /// Makes or replaces an identity; also gives the secret that was made for it, if one was to be, and what the change
    /// means to its live sessions.
    pub async fn put(
        &self,
        name: &str,
        draft: IdentityDraft,
        by: &Author,
    ) -> Result<(IdentityView, Option<String>, Impact), DirectoryError> {
        self.check_new_name(name)?;
        check_size(&draft.attributes, &draft.note, draft.client_id.as_deref())?;
        let secret = draft.generate.then(GeneratedSecret::make);
        let hash = match (draft.password, &secret) {
            (None, None) => None,
            (None, Some(secret)) => Some(secret.kept.clone()),
            (Some(_), Some(_)) => return Err(DirectoryError::TwoSecrets),
            (Some(password), None) if password.is_empty() || password.len() > PASSWORD_LENGTH => {
                return Err(DirectoryError::Password);
            }
            (Some(password), None) => Some(self.hash(password).await?),
        };
        let matches = draft.certificates.as_deref().map(read_matches).transpose()?;
        let _one_at_a_time = self.changing.lock().await;
        let certificates = self.certificates_of(name, matches);
        let all = [(0, name, certificates)];
        self.check_owners(&all)?;
        let row = IdentityRow {
            name,
            attributes: &draft.attributes,
            password_hash: hash.as_deref(),
            enabled: draft.enabled,
            note: &draft.note,
            client_id: draft.client_id.as_deref(),
            certificates: &all[0].2,
        };
        let before = self.known.read().get(name).map(|record| json!(shown(record)));
        let new_password = hash.is_some();
        let deed = |records: &[IdentityRecord]| {
            let mut after = records.first().map(|record| json!(shown(record)));
            if let Some(after) = &mut after {
                after["new_password"] = new_password.into();
            }
            Deed { before, after, ..Deed::new("put", "identity", name) }
        };
        let stored = self.store.put_identities(&[row], by, deed).await?.pop();
        let record = Arc::new(stored.expect("what is put is given back"));
        let view = shown(&record);
        let old = self.known.write().put(Arc::clone(&record));
        Ok((view, secret.map(|secret| secret.text), impact(old.as_deref(), &record)))
    }

    /// What is wrong with records of an import, by their places: a name that can't be one or stands twice, or a hash that
    /// is none.
    pub fn check_many(&self, records: &[IdentityImport]) -> Vec<(usize, ImportFault)> {
        let mut faults = Vec::new();
        let mut seen = HashSet::new();
        let mut certificates = Vec::new();
        for (place, record) in records.iter().enumerate() {
            if let Err(error) = self.check_new_name(&record.name) {
                faults.push((place, error.into()));
            } else if !seen.insert(record.name.as_str()) {
                faults.push((place, ImportFault::Twice(record.name.clone())));
            }
            if let Err(error) = check_size(&record.attributes, &record.note, record.client_id.as_deref()) {
                faults.push((place, ImportFault::Of(record.name.clone(), error.into())));
            }
            match record.certificates.as_deref().map(read_matches).transpose() {
                Err(error) => faults.push((place, error.into())),
                Ok(matches) => {
                    certificates.push((place, record.name.as_str(), self.certificates_of(&record.name, matches)));
                }
            }
            if let Some(fault) = record.password_hash.as_deref().and_then(passwords::hash_fault) {
                faults.push((place, ImportFault::Hash(record.name.clone(), fault)));
            }
            if record.password_hash.is_some() && record.generate {
                faults.push((place, ImportFault::Of(record.name.clone(), DirectoryError::TwoSecrets)));
            }
        }
        faults.extend(self.owner_faults(&certificates).into_iter().map(|(place, error)| (place, error.into())));
        faults
    }

    /// Names that there are stay as they are.
    fn check_new_name(&self, name: &str) -> Result<(), DirectoryError> {
        check_name(name)?;
        match names::fault(name) {
            Some(why) if self.known.read().get(name).is_none() => {
                Err(DirectoryError::Name { name: name.into(), why: why.into() })
            }
            _ => Ok(()),
        }
    }

    /// What an import would do to each record.
    pub fn foresee(&self, records: &[IdentityImport]) -> Vec<ImportEffect> {
        let known = self.known.read();
        let foresee = |record: &IdentityImport| match known.get(&record.name) {
            None => ImportEffect::Made,
            Some(old) => {
                let same = old.attributes.0 == record.attributes
                    && old.enabled == record.enabled
                    && old.note == record.note
                    && old.client_id == record.client_id
                    && record
                        .certificates
                        .as_deref()
                        .is_none_or(|texts| read_matches(texts).is_ok_and(|matches| matches == old.certificates.0))
                    && !record.generate
                    && record.password_hash.as_ref().is_none_or(|hash| old.password_hash.as_ref() == Some(hash));
                if same { ImportEffect::Unchanged } else { ImportEffect::Changed }
            }
        };
        records.iter().map(foresee).collect()
    }

    /// Makes or replaces many identities at once; gives the secrets that were made, by name, and what the change means to
    /// the live sessions of those that it means something to.
    pub async fn put_many(&self, records: &[IdentityImport], by: &Author) -> Result<ManyPut, DirectoryError> {
        let secrets: Vec<_> = records.iter().map(|record| record.generate.then(GeneratedSecret::make)).collect();
        let _one_at_a_time = self.changing.lock().await;
        let mut all = Vec::with_capacity(records.len());
        for (place, record) in records.iter().enumerate() {
            let matches = record.certificates.as_deref().map(read_matches).transpose()?;
            all.push((place, record.name.as_str(), self.certificates_of(&record.name, matches)));
        }
        self.check_owners(&all)?;
        let rows: Vec<IdentityRow<'_>> = records
            .iter()
            .zip(&all)
            .zip(&secrets)
            .map(|((record, (_, _, certificates)), secret)| IdentityRow {
                name: &record.name,
                attributes: &record.attributes,
                password_hash: secret.as_ref().map(|secret| &*secret.kept).or(record.password_hash.as_deref()),
                enabled: record.enabled,
                note: &record.note,
                client_id: record.client_id.as_deref(),
                certificates,
            })
            .collect();
        let made = self.foresee(records).iter().filter(|effect| **effect == ImportEffect::Made).count();
        let deed = Deed {
            after: Some(json!({ "made": made, "changed": records.len() - made })),
            ..Deed::new("import", "identity", format!("{} of them", records.len()))
        };
        let stored = self.store.put_identities(&rows, by, |_| deed).await?;
        let mut known = self.known.write();
        let mut impacts = Vec::new();
        for record in stored {
            let record = Arc::new(record);
            let old = known.put(Arc::clone(&record));
            match impact(old.as_deref(), &record) {
                Impact::None => {}
                impact => impacts.push((record.name.clone(), impact)),
            }
        }
        let made = records.iter().zip(secrets);
        let secrets = made.filter_map(|(record, secret)| Some((record.name.clone(), secret?.text))).collect();
        Ok(ManyPut { secrets, impacts })
    }

    /// Removes an identity; gives whether there was one.
    pub async fn remove(&self, name: &str, by: &Author) -> Result<bool, DirectoryError> {
        let _one_at_a_time = self.changing.lock().await;
        let before = self.known.read().get(name).map(|record| json!(shown(record)));
        let deed = Deed { before, ..Deed::new("remove", "identity", name) };
        let removed = self.store.remove_identity(name, by, &deed).await?;
        self.known.write().remove(name);
        Ok(removed)
    }

    /// The only client identifier that an identity may use, if it is tied to one.
    pub fn client_id_of(&self, name: &str) -> Option<String> {
        self.known.read().get(name)?.client_id.clone()
    }

    /// The only client identifiers that some identities may use, by their names.
    pub fn tied(&self) -> BTreeMap<Arc<str>, String> {
        let known = self.known.read();
        let tied = known.all().filter_map(|record| Some((record.name.as_str().into(), record.client_id.clone()?)));
        tied.collect()
    }

    /// Whether a client identifier is tied to this identity, among others perhaps; `None` if it is tied to nobody.
    pub fn is_tied(&self, client_id: &str, name: &str) -> Option<bool> {
        let known = self.known.read();
        let owners = known.tied.get(client_id)?;
        Some(owners.iter().any(|owner| owner == name))
    }

    /// What an identity's certificates are known by, if these are the new matches, or none are given.
    fn certificates_of(&self, name: &str, matches: Option<Vec<String>>) -> Vec<String> {
        let stay = || self.known.read().get(name).map(|record| record.certificates.0.clone());
        matches.or_else(stay).unwrap_or_default()
    }

    /// What is wrong when identities get these matches, by their places: no two may have the same.
    fn owner_faults(&self, all: &[(usize, &str, Vec<String>)]) -> Vec<(usize, DirectoryError)> {
        let known = self.known.read();
        let replaced: HashSet<&str> = all.iter().map(|(_, name, _)| *name).collect();
        let mut owners = HashMap::new();
        let mut faults = Vec::new();
        for (place, name, matches) in all {
            for one in matches {
                let here = owners.insert(one, *name).filter(|other| other != name);
                let stays = |owner: &&str| !replaced.contains(owner);
                let there = || known.matches.get(one).map(String::as_str).filter(stays);
                if let Some(other) = here.or_else(there) {
                    faults.push((*place, DirectoryError::MatchTaken(one.clone(), other.to_owned())));
                }
            }
        }
        faults
    }

    fn check_owners(&self, all: &[(usize, &str, Vec<String>)]) -> Result<(), DirectoryError> {
        let fault = self.owner_faults(all).into_iter().next();
        fault.map_or(Ok(()), |(_, fault)| Err(fault))
    }

    /// Whose a certificate is.
    pub fn by_certificate(&self, certificate: &ClientCertificate) -> Whose {
        let known = self.known.read();
        let mut owners = certificate.matches.iter().filter_map(|one| known.matches.get(one));
        let Some(first) = owners.next() else { return Whose::Nobody };
        match owners.find(|other| *other != first) {
            None => Whose::Of(first.clone()),
            Some(other) => Whose::Both(first.clone(), other.clone()),
        }
    }

    /// Someone who has shown a good token or certificate.
    pub fn by_proof(&self, name: &str) -> SignIn {
        match self.known.read().get(name) {
            Some(record) if record.enabled => SignIn::Known(seen(record)),
            Some(_) => SignIn::Disabled,
            None => SignIn::Wrong,
        }
    }

    /// Checks a name and a password. Secrets that the broker made are verified at once; passwords that people chose wait
    /// for their turn, and so does all that is wrong.
    pub async fn sign_in(&self, name: &str, password: &[u8], address: IpAddr, limits: &Limits) -> SignIn {
        let entry = self.known.read().records.get(name).cloned();
        let stored = entry.as_ref().and_then(|entry| entry.record.password_hash.as_deref());
        let is_generated = stored.is_some_and(generated_secret::is_generated);
        let checked = match stored {
            Some(kept) if is_generated && generated_secret::is_right(kept, password) => Checked::Right,
            stored => {
                let guess = Guess {
                    address,
                    name: format!("identity {name}").into(),
                    password,
                    stored: stored.filter(|_| !is_generated),
                    known: entry.as_ref().map(|entry| &entry.known_again).filter(|_| !is_generated),
                    limits,
                };
                self.passwords.check(guess).await
            }
        };
        match (entry, checked) {
            (_, Checked::TooMany) => SignIn::TooMany,
            (Some(entry), Checked::Right) if entry.record.enabled => SignIn::Known(seen(&entry.record)),
            (Some(_), Checked::Right) => SignIn::Disabled,
            _ => SignIn::Wrong,
        }
    }
}

impl Directory {
    /// What somebody is told who has shown something that is wrong, after it has cost what a wrong password costs.
    pub async fn wrong(&self, name: &str, address: IpAddr, limits: &Limits) -> SignIn {
        let name = format!("identity {name}").into();
        let guess = Guess { address, name, password: b"", stored: None, known: None, limits };
        match self.passwords.check(guess).await {
            Checked::TooMany => SignIn::TooMany,
            Checked::Right | Checked::Wrong => SignIn::Wrong,
        }
    }
}

/// What an import has done.
#[derive(Debug)]
pub struct ManyPut {
    /// Secrets that were made, with the names of their identities.
    pub secrets: Vec<(String, String)>,
    /// What each change means for sessions, by name.
    pub impacts: Vec<(String, Impact)>,
}

fn impact(old: Option<&IdentityRecord>, new: &IdentityRecord) -> Impact {
    match old {
        Some(old)
            if old.password_hash != new.password_hash
                || old.client_id != new.client_id
                || old.certificates.0.iter().any(|one| !new.certificates.0.contains(one))
                || !new.enabled =>
        {
            Impact::SignInAgain
        }
        Some(old) if old.attributes.0 != new.attributes.0 => Impact::OtherRights,
        _ => Impact::None,
    }
}

fn seen(record: &IdentityRecord) -> Identity {
    Identity { name: record.name.as_str().into(), attributes: record.attributes.0.clone() }
}
