//! The console's files are built into the program, so a new build of them is a new program.

fn main() {
    println!("cargo:rerun-if-changed=../../console/dist");
}
