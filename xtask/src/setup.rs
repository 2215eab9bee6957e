//! What the tasks need: Debian packages, and the npm packages of the console and of the demo's page.

use crate::run;
use anyhow::{Result, bail};
use std::path::Path;
use std::process::Command;

/// A Debian package, and the file that says it is there.
pub struct Package {
    name: &'static str,
    brings: &'static str,
}

/// The database: its server, which the client's package alone does not bring.
pub const POSTGRESQL: Package = Package { name: "postgresql", brings: "/usr/lib/postgresql/*/bin/initdb" };
/// The browser of the console's tests.
pub const CHROMIUM: Package = Package { name: "chromium", brings: "/usr/bin/chromium" };
/// Drives it.
pub const CHROMEDRIVER: Package = Package { name: "chromium-driver", brings: "/usr/bin/chromedriver" };

/// Holds the report for pipelines against its schema.
pub const XMLLINT: Package = Package { name: "libxml2-utils", brings: "/usr/bin/xmllint" };

/// Reads what is measured, and the rules for it, as those do who watch.
pub const PROMETHEUS: Package = Package { name: "prometheus", brings: "/usr/bin/promtool" };
/// Keeps the charter of the pipeline that is documented.
pub const GIT: Package = Package { name: "git", brings: "/usr/bin/git" };

/// The reverse proxies whose set-up is documented.
pub const NGINX: Package = Package { name: "nginx", brings: "/usr/sbin/nginx" };
/// The other one.
pub const CADDY: Package = Package { name: "caddy", brings: "/usr/bin/caddy" };

/// Whether a file exists; a `*` in its path stands for any one folder.
fn is_there(path: &str) -> bool {
    match path.split_once("/*/") {
        None => Path::new(path).exists(),
        Some((folder, rest)) => std::fs::read_dir(folder)
            .is_ok_and(|entries| entries.flatten().any(|entry| entry.path().join(rest).exists())),
    }
}

/// Installs what is missing.
pub fn packages(wanted: &[Package]) -> Result<()> {
    let missing: Vec<&str> =
        wanted.iter().filter(|package| !is_there(package.brings)).map(|package| package.name).collect();
    if missing.is_empty() {
        return Ok(());
    }
    run::step(&format!("Debian packages: {}", missing.join(", ")));
    let is_root =
        std::fs::metadata("/proc/self").is_ok_and(|own| std::os::unix::fs::MetadataExt::uid(&own) == 0);
    let apt = |arguments: &[&str]| {
        let mut command = if is_root { Command::new("apt-get") } else { Command::new("sudo") };
        if !is_root {
            command.arg("apt-get");
        }
        run::run(
            command
                .env("DEBIAN_FRONTEND", "noninteractive")
                // Nothing that is installed for the tests begins to serve by itself.
                .env("RUNLEVEL", "1")
                .args(["-o", "DPkg::Lock::Timeout=300"])
                .args(arguments),
        )
    };
    apt(&["update", "-qq"])?;
    apt(&[&["install", "-y", "-qq", "--no-install-recommends"], missing.as_slice()].concat())?;
    for package in wanted {
        if !is_there(package.brings) {
            bail!("{} did not bring {}", package.name, package.brings);
        }
    }
    Ok(())
}

/// The folders of pages: the console, and the page of the demo's portal.
pub const PAGES: [&str; 2] = ["console", "demo/apps/agents/page"];

/// Installs the pages' packages as their lock files say, and builds them.
pub fn pages() -> Result<()> {
    for pages in PAGES {
        run::step(&format!("{pages}: packages and build"));
        let folder = run::root().join(pages);
        let lock = std::fs::read(folder.join("package-lock.json"))?;
        let mark = folder.join("node_modules/.installed-lock");
        if std::fs::read(&mark).ok().as_ref() != Some(&lock) {
            run::npm(pages, &["ci", "--no-audit", "--no-fund"])?;
            std::fs::write(&mark, &lock)?;
        }
        run::npm(pages, &["run", "build", "--", "--logLevel", "warn"])?;
    }
    Ok(())
}
