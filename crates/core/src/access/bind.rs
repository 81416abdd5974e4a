//! A policy bound to an identity: what that one may do.

use std::sync::Arc;

use super::{
    decide::Access,
    policy::{Compiled, Policy, Subject},
};
use crate::{
    Identity,
    blueprint::{Act, BindError, ClientId, Verdict},
};

impl Policy {
    /// What somebody may do of whom nothing is known: no attribute, and a name that no identity has. It is in cohorts that
    /// ask for nothing.
    pub(crate) fn bind_unknown(self: &Arc<Self>, name: &str) -> Access {
        let identity = Identity { name: name.into(), attributes: Default::default() };
        let cohorts = self.cohorts.iter().enumerate();
        let cohorts = cohorts.filter(|(_, (_, expression))| expression.holds(&identity)).map(|(place, _)| place);
        let cohorts = cohorts.collect();
        let subject = Subject { identity, client_id: None, cohorts, is_denied_some: true, takes_parts: false };
        Access::bound(Arc::clone(self), subject)
    }

    /// What this identity may do by a client of this identifier.
    ///
    /// # Errors
    ///
    /// A value that would change the meaning of a rule's topics.
    pub fn bind(self: &Arc<Self>, identity: &Identity, client_id: &str) -> Result<Access, BindError> {
        self.bind_as(identity, Some(client_id))
    }

    /// The same for an identity by any client: by the one whose identifier it is tied to, or by whichever it likes. It
    /// serves for statements about sets of topics; a single decision wants a session.
    ///
    /// # Errors
    ///
    /// As for [`Policy::bind`].
    pub fn bind_any(self: &Arc<Self>, identity: &Identity, tied: Option<&str>) -> Result<Access, BindError> {
        self.bind_as(identity, tied)
    }

    fn bind_as(self: &Arc<Self>, identity: &Identity, client_id: Option<&str>) -> Result<Access, BindError> {
        let cohorts = self.cohorts.iter().enumerate();
        let cohorts = cohorts.filter(|(_, (_, expression))| expression.holds(identity)).map(|(place, _)| place);
        let mut subject = Subject {
            identity: identity.clone(),
            client_id: client_id.map(Into::into),
            cohorts: cohorts.collect(),
            is_denied_some: false,
            takes_parts: client_id.is_some() && Identity::bridge_named(&identity.name).is_some(),
        };
        let concerned: Vec<&Compiled> = self.rules.iter().filter(|rule| subject.is(&rule.who)).collect();
        for rule in &concerned {
            for pattern in &rule.patterns {
                pattern.bind(&rule.name, identity, client_id.map_or(ClientId::Any, ClientId::Given))?;
            }
        }
        subject.is_denied_some =
            concerned.iter().any(|rule| rule.verdict == Verdict::Deny && rule.acts.contains(&Act::Subscribe));
        Ok(Access::bound(Arc::clone(self), subject))
    }
}
