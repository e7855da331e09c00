//! `completions` and `man`: what a shell and a reader of manuals know of the command, made of its arguments.

use crate::arguments::{Arguments, Completions};
use crate::say;
use clap::CommandFactory;
use nut_cellar::{Error, ErrorKind, Result};

pub fn completions(call: &Completions) -> Result<()> {
    let mut script = Vec::new();
    clap_complete::generate(call.shell, &mut Arguments::command(), "nut-cellar", &mut script);
    say(&String::from_utf8_lossy(&script))
}

/// The page of the command, and one section for each of its calls.
pub fn manual() -> Result<()> {
    let mut page = Vec::new();
    let mut command = Arguments::command();
    command.build();
    let calls = command.get_subcommands().filter(|call| call.get_name() != "help").cloned();
    let written = clap_mangen::Man::new(command.clone()).render(&mut page).and_then(|()| {
        for call in calls.collect::<Vec<_>>() {
            let heading = format!(".SH \"NUT-CELLAR {}\"\n", call.get_name().to_uppercase());
            page.extend_from_slice(heading.as_bytes());
            let section = clap_mangen::Man::new(call);
            section.render_synopsis_section(&mut page)?;
            section.render_description_section(&mut page)?;
            section.render_options_section(&mut page)?;
        }
        Ok(())
    });
    written.map_err(|error| {
        Error::caused(ErrorKind::Place, format!("Writing the manual failed: {error}."), error)
    })?;
    say(&String::from_utf8_lossy(&page))
}
