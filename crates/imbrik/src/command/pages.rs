//! `imbrik pages`: the manual and the completions, for packagers.

use crate::{
    args::{self, Cli, PagesArgs},
    exit::Exit,
    failure::{self, Outcome},
    render::quoted,
};
use clap::CommandFactory;
use clap_complete::{Shell, env::Shells};
use clap_mangen::Man;
use std::{fs, io, path::Path};

/// Their paths in the named folder, as in packages.
const MANUAL: &str = "share/man/man1";
const COMPLETIONS: [(Shell, &str, &str); 3] = [
    (Shell::Bash, "share/bash-completion/completions", "imbrik"),
    (Shell::Zsh, "share/zsh/vendor-completions", "_imbrik"),
    (Shell::Fish, "share/fish/vendor_completions.d", "imbrik.fish"),
];

pub(crate) fn run(args: &PagesArgs) -> Outcome<Exit> {
    let folder = &args.dir;
    write(folder).map_err(|error| {
        failure::system(format!("writing pages into {}", quoted(folder)), error)
    })?;
    Ok(Exit::Done)
}

fn write(folder: &Path) -> io::Result<()> {
    let manual = folder.join(MANUAL);
    fs::create_dir_all(&manual)?;
    let mut cli = Cli::command();
    cli.build();
    let page = |command: &clap::Command, name: &str| -> io::Result<()> {
        let mut page = Vec::new();
        Man::new(command.clone()).title(name.to_uppercase()).render(&mut page)?;
        let page = args::with_places(&String::from_utf8_lossy(&page));
        fs::write(manual.join(format!("{name}.1")), page)
    };
    page(&cli, "imbrik")?;
    let shown = |command: &&clap::Command| !command.is_hide_set() && command.get_name() != "help";
    for command in cli.get_subcommands().filter(shown) {
        let name = format!("imbrik-{}", command.get_name());
        page(command, &name)?;
        for below in command.get_subcommands().filter(shown) {
            page(below, &format!("{name}-{}", below.get_name()))?;
        }
    }
    let shells = Shells::builtins();
    for (shell, place, name) in COMPLETIONS {
        let Some(completer) = shells.completer(&shell.to_string()) else { continue };
        let mut script = Vec::new();
        completer.write_registration("COMPLETE", "imbrik", "imbrik", "imbrik", &mut script)?;
        fs::create_dir_all(folder.join(place))?;
        fs::write(folder.join(place).join(name), script)?;
    }
    Ok(())
}
