//! One module for each command.

pub(crate) mod demo;
pub(crate) mod identities;
pub(crate) mod publish;
pub(crate) mod serve;
pub(crate) mod sessions;
pub(crate) mod status;
pub(crate) mod subscribe;

use moorfall_wire::QoS;

/// A quality of service that this client speaks.
fn qos(text: &str) -> Result<QoS, String> {
    match text {
        "0" => Ok(QoS::AtMostOnce),
        "1" => Ok(QoS::AtLeastOnce),
        "2" => Err("QoS 2 is not supported yet; use 1".into()),
        _ => Err("write 0 or 1".into()),
    }
}
