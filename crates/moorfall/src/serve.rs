//! `moorfall serve`
use std::path::PathBuf;

use clap::Args;
use moorfall_cli::{
    output::{self, Done},
    stop::Stop,
};
use moorfall_service::Service;

use crate::{config::ServiceOptions, logging};

#[derive(Debug, Args)]
pub(crate) struct Arguments {
    /// Configuration file [default: moorfall.toml in the data folder]
    #[arg(long, value_name = "FILE", env = "MOORFALL_CONFIG")]
    config: Option<PathBuf>,
    #[command(flatten)]
    service: ServiceOptions,
}

pub(crate) async fn run(arguments: Arguments) -> Done {
    let options = arguments.service.with_file(arguments.config)?;
    logging::start(options.log_format.unwrap_or_default(), "info");
    let settings = options.settings();
    // From here on a signal must not end the process before what was started is stopped.
    let mut stopped = Stop::listen()?;
    let service = Service::start(&settings, |step| tracing::info!("{step}")).await?;
    let listeners: Vec<String> = service.listeners().into_iter().map(|(name, url)| format!("{name}={url}")).collect();
    output::finish(output::line(format_args!(
        "ready {} http=http://{} data={}",
        listeners.join(" "),
        service.http_address(),
        service.data_folder().path().display()
    )))?;
    stopped.wait().await;
    service.stop().await;
    Ok(())
}
