//! A new migration must lead to a new build: the migrations are embedded.

fn main() {
    println!("cargo::rerun-if-changed=migrations");
}
