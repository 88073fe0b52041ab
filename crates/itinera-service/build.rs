//! Builds again when the console was built again, since its files are embedded.

fn main() {
    println!("cargo::rerun-if-changed=../../console/dist");
}
