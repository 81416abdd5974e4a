//! `moorfall completions` and `moorfall manual`: what other programs want to know of the command line.

use std::path::PathBuf;

use clap::{Args, CommandFactory};
use clap_complete::Shell;
use moorfall_cli::output::{self, Done, Failure};

#[derive(Debug, Args)]
pub(crate) struct CompletionsArguments {
    /// The shell; left out, the one in SHELL
    shell: Option<Shell>,
}

/// Prints what a shell needs to complete commands.
pub(crate) fn completions<C: CommandFactory>(arguments: &CompletionsArguments) -> Done {
    let shell = arguments.shell.or_else(Shell::from_env);
    let shell = shell.ok_or_else(|| Failure("SHELL is not a known shell. Give one, for example bash.".into()))?;
    // Gathered first: a reader that goes, as `head` does, must not end it with a trace.
    let mut script = Vec::new();
    clap_complete::generate(shell, &mut C::command(), "moorfall", &mut script);
    output::finish(output::raw(&script))
}

#[derive(Debug, Args)]
pub(crate) struct ManualArguments {
    /// Folder for the pages; it is made if it is not there
    folder: PathBuf,
}

/// Writes manual pages, one for each command.
pub(crate) fn manual<C: CommandFactory>(arguments: &ManualArguments) -> Done {
    let folder = &arguments.folder;
    let wrong = |error: std::io::Error| {
        Failure(format!("{} can't be written: {error}. Check the path and its permissions.", folder.display()))
    };
    std::fs::create_dir_all(folder).map_err(wrong)?;
    clap_mangen::generate_to(C::command(), folder).map_err(wrong)?;
    let pages = std::fs::read_dir(folder).map_err(wrong)?.count() as u64;
    let pages = output::plural(pages, "page", "pages");
    output::finish(output::line(format_args!("{pages} in {0}; `man {0}/moorfall.1` shows the first", folder.display())))
}
