//! What can be typed at the desk.

use std::time::Duration;

use clap::{Args, Parser, Subcommand};
use moorfall_wire::{QoS, TopicFilter, TopicName};

use crate::{
    arguments::{self, filter, parse_short_span, qos, wanted},
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
    /// Open a client and go on with it; without more, to the service on this machine
    Open {
        /// What to call it
        name: String,
        #[command(flatten)]
        connection: Box<Connection>,
    },
    /// Go on with another client
    Use {
        /// Its name
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
        /// Payload; left out, the message is empty
        #[arg(default_value = "", hide_default_value = true)]
        payload: String,
        #[command(flatten)]
        envelope: Box<Envelope>,
    },
    /// Read messages until Ctrl-C; with --background they appear while you type
    Subscribe {
        /// Topic filters; with :0, :1 or :2 at its end each has a QoS of its own
        #[arg(required = true, value_name = "FILTER[:QOS]", value_parser = wanted)]
        filters: Vec<arguments::Wanted>,
        /// Highest quality of service to receive with
        #[arg(long, value_name = "0|1|2", default_value = "1", value_parser = qos)]
        qos: QoS,
        /// Go on typing while messages come
        #[arg(long, short)]
        background: bool,
        /// End after so many messages
        #[arg(long, value_name = "N", conflicts_with = "background", value_parser = clap::value_parser!(u64).range(1..))]
        take: Option<u64>,
        /// End after this time
        #[arg(long = "for", value_name = "TIME", conflicts_with = "background", value_parser = parse_short_span)]
        time: Option<Duration>,
        #[command(flatten)]
        view: Viewing,
    },
    /// Read no more of a filter
    Unsubscribe {
        /// The filters, as they were subscribed to
        #[arg(required = true, value_name = "FILTER", value_parser = filter)]
        filters: Vec<TopicFilter>,
    },
    /// Close a client; without a name the one in use
    Close {
        /// Its name
        name: Option<String>,
    },
    /// Do nothing for a while, as scripts sometimes have to
    Wait {
        /// How long, for example 500ms or 2s
        #[arg(value_parser = parse_short_span)]
        time: Duration,
    },
    /// Close all clients and end the desk
    #[command(alias = "exit", alias = "quit")]
    Leave,
}

/// How messages are shown.
#[derive(Debug, Args)]
pub(super) struct Viewing {
    /// What is shown of a message
    #[arg(long, value_name = "WHAT", default_value = "topic")]
    show: Show,
    /// How payloads are shown
    #[arg(long, value_name = "FORM", default_value = "auto")]
    payload: Shown,
}

impl Viewing {
    pub(super) fn view(&self) -> View {
        View { show: self.show, payload: self.payload }
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
