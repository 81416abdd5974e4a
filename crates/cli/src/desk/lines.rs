//! What can be typed at the desk.

use std::time::Duration;

use clap::{Args, Parser, Subcommand};
use moorfall_wire::{QoS, TopicFilter, TopicName};

use crate::{
    arguments::{self, duration, filter, qos, wanted},
    envelope::Envelope,
    messaging::Connection,
    payload::Shown,
    view::{Show, View},
};

/// One line.
#[derive(Debug, Parser)]
#[command(
    no_binary_name = true,
    name = "",
    disable_help_flag = true,
    max_term_width = 80,
    help_template = "{subcommands}",
    subcommand_help_heading = ""
)]
pub(super) struct Line {
    #[command(subcommand)]
    pub(super) order: Order,
}

#[derive(Debug, Subcommand)]
#[command(disable_help_flag = true)]
pub(super) enum Order {
    /// Open a client and select it; by default to the service on this machine
    Open {
        /// Name
        name: String,
        #[command(flatten)]
        connection: Box<Connection>,
    },
    /// Select another client
    Use {
        /// Name
        name: String,
    },
    /// List the clients with their subscriptions
    Clients {
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Publish a message
    Publish {
        /// Topic name
        topic: TopicName,
        /// Payload [default: empty]
        #[arg(default_value = "", hide_default_value = true)]
        payload: String,
        #[command(flatten)]
        envelope: Box<Envelope>,
    },
    /// Print messages until Ctrl-C; with --background they appear while you type
    Subscribe {
        /// Topic filters; :0, :1 or :2 at the end of one sets its QoS
        #[arg(required = true, value_name = "FILTER[:QOS]", value_parser = wanted)]
        filters: Vec<arguments::Wanted>,
        /// Maximum quality of service
        #[arg(long, value_name = "0|1|2", default_value = "1", value_parser = qos)]
        qos: QoS,
        /// Continue typing while messages arrive
        #[arg(long, short)]
        background: bool,
        /// Stop after N messages
        #[arg(long, value_name = "N", conflicts_with = "background", value_parser = clap::value_parser!(u64).range(1..))]
        take: Option<u64>,
        /// Stop after this time
        #[arg(long = "for", value_name = "TIME", conflicts_with = "background", value_parser = duration)]
        time: Option<Duration>,
        #[command(flatten)]
        view: Viewing,
    },
    /// Unsubscribe from topic filters
    Unsubscribe {
        /// Topic filters of subscriptions
        #[arg(required = true, value_name = "FILTER", value_parser = filter)]
        filters: Vec<TopicFilter>,
    },
    /// Close a client [default: the selected one]
    Close {
        /// Name
        name: Option<String>,
    },
    /// Wait for a while, for scripts
    Wait {
        /// Time, for example 500ms or 2s
        #[arg(value_parser = duration)]
        time: Duration,
    },
    /// Close all clients and leave the desk
    #[command(alias = "exit", alias = "quit")]
    Leave,
}

/// How messages are shown.
#[derive(Debug, Args)]
pub(super) struct Viewing {
    /// What to print of a message
    #[arg(long, value_name = "WHAT", default_value = "topic")]
    show: Show,
    /// How to print payloads
    #[arg(long, value_name = "FORM", default_value = "auto")]
    payload_as: Shown,
}

impl Viewing {
    pub(super) fn view(&self) -> View {
        View { show: self.show, payload: self.payload_as }
    }
}

/// A subscription that is asked for.
pub(super) struct Wanted {
    pub(super) filters: Vec<arguments::Wanted>,
    pub(super) qos: QoS,
    pub(super) take: Option<u64>,
    pub(super) time: Option<Duration>,
    pub(super) view: View,
}

/// The words that a line may begin with.
pub(super) const ORDERS: [&str; 10] =
    ["open", "use", "clients", "publish", "subscribe", "unsubscribe", "close", "wait", "help", "leave"];
