//! `ostrog charter new`: a small charter, register and rehearsal that check, answer and pass.

use crate::exit::{Code, Failure, YES};
use crate::shell::Shell;
use std::io::Write as _;
use std::path::Path;

const FILES: [(&str, &str); 3] = [
    ("charter/charter.toml", include_str!("../../../../../demo/first/charter.toml")),
    ("register.ndjson", include_str!("../../../../../demo/first/register.ndjson")),
    ("rehearsal/rehearsal.toml", include_str!("../../../../../demo/first/rehearsal.toml")),
];

/// Writes the files, over nothing that is there.
pub fn run(dir: &Path, shell: &Shell) -> Result<Code, Failure> {
    let failed = |path: &Path, error: std::io::Error| Failure::input(format!("{}: {error}", path.display()));
    if let Some((name, _)) = FILES.iter().find(|(name, _)| dir.join(name).exists()) {
        let message = format!("{} is there already: name a folder without one", dir.join(name).display());
        return Err(Failure::input(message));
    }
    let shown = dir.display();
    for (name, text) in FILES {
        let path = dir.join(name);
        let folder = path.parent().unwrap_or(dir);
        std::fs::create_dir_all(folder).map_err(|error| failed(folder, error))?;
        let text = text.replace("DIR/", &format!("{shown}/"));
        let mut file = std::fs::File::create_new(&path).map_err(|error| failed(&path, error))?;
        file.write_all(text.as_bytes()).map_err(|error| failed(&path, error))?;
        shell.answer(&path.display().to_string());
    }
    shell.notice(&format!(
        "Next:\n  ostrog charter check {shown}/charter\n  \
         ostrog ask --charter {shown}/charter --register {shown}/register.ndjson user:ada pier:assign pier:west --why\n  \
         ostrog rehearse {shown}/rehearsal --charter {shown}/charter"
    ));
    Ok(YES)
}
