//! Puts `src/stdout.c` into the program: what it does has to be done before Rust's own beginning.

fn main() {
    println!("cargo:rerun-if-changed=src/stdout.c");
    // Windows gives a program no other output in place of one that is missing.
    if std::env::var("CARGO_CFG_UNIX").is_err() {
        return;
    }
    for object in cc::Build::new().file("src/stdout.c").cargo_metadata(false).compile_intermediates() {
        println!("cargo:rustc-link-arg-bins={}", object.display());
    }
}
