use roff::{Inline, Roff, bold, italic, roman};

use crate::{Entry, Reference, Section};

/// The page of the settings file, as `man` reads it.
pub fn settings_page(reference: &Reference, version: &str) -> String {
    let mut page = Roff::new();
    page.control("TH", ["waverant.toml", "5", "", &format!("waverant {version}")]);
    page.control("SH", ["NAME"]);
    page.text([roman("waverant.toml - settings of the Waverant service")]);
    page.control("SH", ["SYNOPSIS"]);
    page.text([italic("/etc/waverant/waverant.toml")]);
    page.control("SH", ["DESCRIPTION"]);
    for paragraph in reference.preface.split(|line| line.is_empty()).filter(|lines| !lines.is_empty()) {
        page.control("PP", []);
        tell(&mut page, paragraph);
    }
    for section in &reference.sections {
        add_section(&mut page, section);
    }
    page.control("SH", ["SEE ALSO"]);
    page.text([bold("waverantd"), roman("(8), "), bold("waverant"), roman("(1)")]);
    page.to_roff()
}

fn add_section(page: &mut Roff, section: &Section) {
    page.control("SH", [format!("[{}]", section.name).as_str()]);
    for Entry { keys, told } in &section.entries {
        for (place, key) in keys.iter().enumerate() {
            page.control(if place == 0 { "TP" } else { "TQ" }, []);
            page.text([bold(key.as_str())]);
        }
        tell(page, told);
    }
}

/// Lines run on; those that begin with spaces are examples and stay as they are.
fn tell(page: &mut Roff, lines: &[String]) {
    for run in lines.chunk_by(|one, next| one.starts_with(' ') == next.starts_with(' ')) {
        if run[0].starts_with(' ') {
            page.control("RS", []).control("nf", []);
            for line in run {
                page.text([roman(line.trim_start())]);
            }
            page.control("fi", []).control("RE", []);
        } else {
            page.text(words(&run.join(" ")));
        }
    }
}

/// What stands between backquotes is a word of the machine.
fn words(text: &str) -> Vec<Inline> {
    text.split('`')
        .enumerate()
        .filter(|(_, part)| !part.is_empty())
        .map(|(place, part)| if place % 2 == 1 { bold(part) } else { roman(part) })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::settings_page;
    use crate::Reference;

    #[test]
    fn a_key_is_a_tagged_paragraph() {
        let text = "# Read by `waverantd`.\n\n[crew]\n# Who is made:\n#   name = \"harbour\"\n# Once.\nfile = \"\"\nfolder = \"\"\n";
        let page = settings_page(&Reference::read(text), "1.2.0");
        let expected = "Read by \\fBwaverantd\\fR.\n.SH [crew]\n.TP\n\\fBfile = \"\"\\fR\n.TQ\n\\fBfolder = \"\"\\fR\n\
            Who is made:\n.RS\n.nf\nname = \"harbour\"\n.fi\n.RE\nOnce.\n.SH \"SEE ALSO\"\n";
        assert!(page.contains(expected), "{page}");
        assert!(page.contains("waverant.toml \\- settings of"), "{page}");
    }
}
