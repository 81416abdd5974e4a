//! Topics of the standard: who says what kind of thing.

use std::fmt;

use strum::{Display, EnumString};

/// What the topics of edge nodes, devices and host applications begin with.
pub(super) const NAMESPACE: &str = "spBv1.0";

/// What topics begin with under which a server that is aware of the standard keeps births.
pub(super) const CERTIFICATES: &str = "$sparkplug/certificates/";

/// What a message is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Display, EnumString)]
pub enum Kind {
    /// An edge node says what it has.
    #[strum(serialize = "NBIRTH")]
    NodeBirth,
    /// An edge node is gone.
    #[strum(serialize = "NDEATH")]
    NodeDeath,
    /// New values of an edge node.
    #[strum(serialize = "NDATA")]
    NodeData,
    /// A command to an edge node.
    #[strum(serialize = "NCMD")]
    NodeCommand,
    /// A device says what it has.
    #[strum(serialize = "DBIRTH")]
    DeviceBirth,
    /// A device is gone.
    #[strum(serialize = "DDEATH")]
    DeviceDeath,
    /// New values of a device.
    #[strum(serialize = "DDATA")]
    DeviceData,
    /// A command to a device.
    #[strum(serialize = "DCMD")]
    DeviceCommand,
}

impl Kind {
    /// Whether it is of a device.
    pub fn is_of_device(self) -> bool {
        matches!(self, Self::DeviceBirth | Self::DeviceDeath | Self::DeviceData | Self::DeviceCommand)
    }
}

/// An edge node, or a device of one.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Place<'t> {
    /// The group.
    pub group: &'t str,
    /// The edge node.
    pub node: &'t str,
    /// The device; the edge node itself if absent.
    pub device: Option<&'t str>,
}

/// Where a message belongs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Address<'t> {
    /// Of, or to, an edge node or device.
    Of(Place<'t>, Kind),
    /// The state of a host application.
    Host(&'t str),
}

impl<'t> Address<'t> {
    /// Where a message of this topic belongs; `None` if it is not of the standard.
    pub fn of(topic: &'t str) -> Option<Self> {
        let rest = topic.strip_prefix(NAMESPACE)?.strip_prefix('/')?;
        let mut levels = rest.split('/');
        let (group, kind, node) = (levels.next()?, levels.next()?, levels.next());
        let device = levels.next();
        if group.is_empty() || levels.next().is_some() {
            return None;
        }
        if (group, node) == ("STATE", None) {
            return Some(Self::Host(kind)).filter(|_| !kind.is_empty());
        }
        let node = node.filter(|node| !node.is_empty())?;
        let kind: Kind = kind.parse().ok()?;
        if device.is_some() != kind.is_of_device() || device.is_some_and(str::is_empty) {
            return None;
        }
        Some(Self::Of(Place { group, node, device }, kind))
    }
}

impl Place<'_> {
    /// The topic of its messages of this kind.
    pub fn topic(&self, kind: Kind) -> String {
        let Self { group, node, device } = self;
        match device {
            Some(device) => format!("{NAMESPACE}/{group}/{kind}/{node}/{device}"),
            None => format!("{NAMESPACE}/{group}/{kind}/{node}"),
        }
    }
}

impl fmt::Display for Place<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.group, self.node)?;
        self.device.map_or(Ok(()), |device| write!(f, "/{device}"))
    }
}
