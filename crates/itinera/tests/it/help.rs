//! What the program says of itself, held against the text that was last looked at.

use crate::support::run;

#[test]
fn the_help_is_the_one_that_was_read() {
    let ran = run(&["--help"]);
    let kept = include_str!("help.txt");
    assert_eq!(
        ran.out, kept,
        "look at it, then keep it: itinera --help > crates/itinera/tests/it/help.txt"
    );
}

#[test]
fn a_closed_pipe_is_a_quiet_success() {
    let mut child = crate::support::itinera()
        .arg("api-description")
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    drop(child.stdout.take());
    let output = child.wait_with_output().unwrap();
    assert!(output.status.success() && output.stderr.is_empty(), "{output:?}");
}
