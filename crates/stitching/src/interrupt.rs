//! Ctrl-C: stops at once, but never between the renames of a change.

use std::time::Duration;

/// The exit status of a process that was interrupted, as shells count it (128 + SIGINT).
const INTERRUPTED: i32 = 130;

/// From now on an interrupt waits for a change that is just being put in place.
pub fn install() {
    // Without a handler the default holds: the process dies, and the next start puts it right.
    let _ = ctrlc::set_handler(|| {
        while stitching_core::journal::is_committing() {
            std::thread::sleep(Duration::from_millis(5));
        }
        std::process::exit(INTERRUPTED);
    });
}
