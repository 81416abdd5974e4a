//! Which addresses may be reached: whoever writes a blueprint must not look into the network that the service is in.

use std::{
    io,
    net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr},
    sync::Arc,
};

use reqwest::dns::{Addrs, Name, Resolve, Resolving};
use tokio::net::lookup_host;

/// Whether an address is of a private network, of this machine or of no machine at all (RFC 6890).
pub(crate) fn is_private(address: IpAddr) -> bool {
    match address.to_canonical() {
        IpAddr::V4(address) => is_private_v4(address),
        IpAddr::V6(address) => is_private_v6(address),
    }
}

fn is_private_v4(address: Ipv4Addr) -> bool {
    let [first, second, ..] = address.octets();
    address.is_private()
        || address.is_loopback()
        || address.is_link_local()
        || address.is_unspecified()
        || address.is_broadcast()
        || address.is_multicast()
        || address.is_documentation()
        || first == 0
        || first >= 240
        // Shared by customers of one provider (RFC 6598).
        || first == 100 && (64..128).contains(&second)
        || first == 198 && (18..20).contains(&second)
}

fn is_private_v6(address: Ipv6Addr) -> bool {
    let first = address.segments()[0];
    address.is_loopback()
        || address.is_unspecified()
        || address.is_multicast()
        || address.is_unique_local()
        || address.is_unicast_link_local()
        // Addresses of version 4 in those of version 6 lead to the same machines (RFC 6052, RFC 3056).
        || first == 0x64
        || first == 0x2002
}

/// Finds addresses of names, and leaves out private ones unless they are allowed.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Resolver {
    pub(crate) private: bool,
}

/// Why a name leads nowhere.
#[derive(Debug, thiserror::Error)]
pub(crate) enum NotFound {
    #[error("{0} does not resolve: {1}")]
    Unknown(String, io::Error),
    #[error("{0} has only addresses of private networks")]
    Private(String),
}

impl Resolver {
    pub(crate) async fn find(self, name: &str, port: u16) -> Result<Vec<SocketAddr>, NotFound> {
        let found = lookup_host((name, port)).await.map_err(|error| NotFound::Unknown(name.to_owned(), error))?;
        let may = |address: &SocketAddr| self.private || !is_private(address.ip());
        let found: Vec<SocketAddr> = found.filter(may).collect();
        if found.is_empty() { Err(NotFound::Private(name.to_owned())) } else { Ok(found) }
    }
}

impl Resolve for Resolver {
    fn resolve(&self, name: Name) -> Resolving {
        let resolver = *self;
        Box::pin(async move {
            let found = resolver.find(name.as_str(), 0).await?;
            Ok(Box::new(found.into_iter()) as Addrs)
        })
    }
}

impl Resolver {
    pub(crate) fn shared(self) -> Arc<Self> {
        Arc::new(self)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn private_addresses_are_known_in_all_their_forms() {
        for private in [
            "10.1.2.3",
            "172.16.0.1",
            "192.168.7.7",
            "127.0.0.1",
            "169.254.169.254",
            "0.0.0.0",
            "0.1.2.3",
            "100.64.0.1",
            "255.255.255.255",
            "224.0.0.1",
            "240.0.0.1",
            "198.18.0.1",
            "192.0.2.7",
            "::1",
            "::",
            "fe80::1",
            "fd00::7",
            "ff02::1",
            "::ffff:10.1.2.3",
            "64:ff9b::10.1.2.3",
            "2002:a01:203::1",
        ] {
            assert!(is_private(private.parse().expect("an address")), "{private}");
        }
        for public in ["9.9.9.9", "172.32.0.1", "100.128.0.1", "2620:fe::fe", "::ffff:9.9.9.9"] {
            assert!(!is_private(public.parse().expect("an address")), "{public}");
        }
    }
}
