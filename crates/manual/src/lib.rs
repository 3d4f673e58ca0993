//! What a package has beside a program: man pages and completions. They are made from the command as it is parsed, and the
//! page of the settings from the reference file, so that they cannot say anything else.

mod reference;
mod settings_page;

use std::fs;
use std::io;
use std::path::Path;

use clap::Command;
use clap_complete::{Shell, generate};
use clap_mangen::Man;

pub use reference::{Entry, Reference, Section};
pub use settings_page::settings_page;

/// Where shells of a distribution look for completions of a program, under `share`.
const COMPLETIONS: [(Shell, &str, &str, &str); 3] = [
    (Shell::Bash, "bash-completion/completions", "", ""),
    (Shell::Zsh, "zsh/vendor-completions", "_", ""),
    (Shell::Fish, "fish/vendor_completions.d", "", ".fish"),
];

/// Writes a page for the program and one for each of its commands, and completions, into a folder that is laid out like
/// `/usr/share`. `section` is that of the man pages: `"1"` for what people call, `"8"` for services.
///
/// # Errors
/// What the file system says.
pub fn write_manual(program: &Command, section: &str, share: &Path) -> io::Result<()> {
    let pages = share.join(format!("man/man{section}"));
    fs::create_dir_all(&pages)?;
    let mut built = program.clone().disable_help_subcommand(true);
    built.build();
    write_pages(&built, section, &pages)?;
    let name = program.get_name().to_owned();
    for (shell, folder, before, behind) in COMPLETIONS {
        let folder = share.join(folder);
        fs::create_dir_all(&folder)?;
        let mut script = Vec::new();
        generate(shell, &mut program.clone(), &name, &mut script);
        fs::write(folder.join(format!("{before}{name}{behind}")), script)?;
    }
    Ok(())
}

/// Writes the page of the settings file, as `waverant.toml(5)`.
///
/// # Errors
/// What the file system says.
pub fn write_settings_page(reference: &str, version: &str, share: &Path) -> io::Result<()> {
    let pages = share.join("man/man5");
    fs::create_dir_all(&pages)?;
    fs::write(pages.join("waverant.toml.5"), settings_page(&Reference::read(reference), version))
}

fn write_pages(command: &Command, section: &str, folder: &Path) -> io::Result<()> {
    for inner in command.get_subcommands().filter(|inner| !inner.is_hide_set()) {
        write_pages(inner, section, folder)?;
    }
    let name = command.get_display_name().unwrap_or(command.get_name()).to_owned();
    let mut page = Vec::new();
    Man::new(command.clone()).section(section).render(&mut page)?;
    fs::write(folder.join(format!("{name}.{section}")), page)
}

#[cfg(test)]
mod tests {
    use clap::{Arg, Command};

    use super::write_manual;

    #[test]
    fn a_page_for_each_command_and_none_for_hidden_ones() {
        let program =
            Command::new("harbour")
                .version("1.2.0")
                .about("Keeps boats")
                .subcommand(Command::new("boat").about("Boats").subcommand(
                    Command::new("launch").about("Put one on the water").arg(Arg::new("name").required(true)),
                ))
                .subcommand(Command::new("manual").hide(true));
        let share = tempfile::tempdir().unwrap();
        write_manual(&program, "1", share.path()).unwrap();
        let read = |path: &str| std::fs::read_to_string(share.path().join(path)).unwrap();
        let mut pages: Vec<String> = std::fs::read_dir(share.path().join("man/man1"))
            .unwrap()
            .map(|entry| entry.unwrap().file_name().into_string().unwrap())
            .collect();
        pages.sort();
        assert_eq!(pages, ["harbour-boat-launch.1", "harbour-boat.1", "harbour.1"]);
        let launch = read("man/man1/harbour-boat-launch.1");
        assert!(launch.contains("Put one on the water") && launch.contains("harbour boat launch"), "{launch}");
        assert!(read("man/man1/harbour.1").contains("harbour\\-boat(1)"));
        for completions in [
            "bash-completion/completions/harbour",
            "zsh/vendor-completions/_harbour",
            "fish/vendor_completions.d/harbour.fish",
        ] {
            assert!(read(completions).contains("launch"), "{completions}");
        }
    }
}
