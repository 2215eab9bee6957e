//! `ostrog-sign-in`: the stand-in by itself.

#![forbid(unsafe_code)]

use clap::Parser;

/// A stand-in for the port's sign-in. It checks no password, and listens on loopback only.
#[derive(Debug, Parser)]
struct Args {
    /// The port; 0 takes a free one
    #[arg(long, default_value_t = 7424)]
    port: u16,
}

#[tokio::main]
async fn main() -> std::io::Result<()> {
    let args = Args::parse();
    let listener = tokio::net::TcpListener::bind(("127.0.0.1", args.port)).await.map_err(|error| {
        std::io::Error::other(format!(
            "cannot listen on port {}: {error}; give --port 0 for a free one",
            args.port
        ))
    })?;
    println!("The port's sign-in, a stand-in, is at http://{}", listener.local_addr()?);
    let stop = async {
        let _ = tokio::signal::ctrl_c().await;
    };
    ostrog_sign_in::serve(listener, stop).await
}
