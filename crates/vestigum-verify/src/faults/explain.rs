//! Why a save was lost, and what to do about it.

use std::path::Path;

use super::judge::FaultFinding;
use crate::sim_disk::{DiskOperation, PowerLoss};

pub(super) const UNREPORTED: &str = "the launch went on with an older image and did not say so: what cannot be read must be told apart from what is not there";

pub(super) const UNAVAILABLE: &str = "what could not be read now was taken for what is not there or damaged, though it is whole: read it again, then refuse the launch";

pub(super) const ROTTEN: &str =
    "the damage was not noticed, or not reported: verify each image as it is read, and fall back on the one before";

/// Returns what a store did wrong, told from what the power loss took: content that was not synced, or names that were not.
pub(super) fn power_loss(log: &[DiskOperation], cut: usize, loss: &PowerLoss, finding: &FaultFinding) -> String {
    if let Some((path, replaced)) = loss.torn().filter(|(path, _)| is_read(log, path)) {
        return torn(log, cut, path, replaced);
    }
    if let Some((path, operation)) = loss.lost_names().next() {
        let folder = path.parent().unwrap_or(Path::new(""));
        let what = match &log[operation] {
            DiskOperation::MakeFolder(_) => format!("the folder {} was made", path.display()),
            DiskOperation::Rename(..) => format!("{} got its name", path.display()),
            _ => format!("{} was made", path.display()),
        };
        let when = if synced_later(log, operation, cut, folder) {
            "before its folder was synced"
        } else {
            "and its folder was not synced"
        };
        return format!(
            "{what} {when}, so the name can be lost with the power: sync the folder {} before the save is acknowledged",
            shown(folder)
        );
    }
    if loss.told().is_empty() {
        return format!("no power loss is needed for it: the disk is as it was seen, and {}", finding.loaded);
    }
    "what was removed or replaced came back, and is taken for the newest: look for the newest by a number in the image or its name".into()
}

fn torn(log: &[DiskOperation], cut: usize, path: &Path, replaced: bool) -> String {
    let shown = path.display();
    if replaced {
        return format!(
            "{shown} was overwritten in place: while the new content is not durable, the old one is gone already; write a new file, sync it, and give it a name of its own"
        );
    }
    let named =
        log[..cut].iter().rposition(|operation| matches!(operation, DiskOperation::Rename(_, to) if to == path));
    let Some(named) = named else {
        return format!(
            "{shown} is written under the name by which it is read, so a launch can find half of it: write under another name, sync, then rename"
        );
    };
    let later =
        log[named..].iter().take_while(|operation| !matches!(operation, DiskOperation::Rename(_, to) if to != path));
    let synced = later
        .clone()
        .any(|operation| matches!(operation, DiskOperation::Sync(file) if is_file(log, named, file, path)));
    if synced {
        format!("{shown} got its name before its content was synced: sync the file first, then rename it")
    } else {
        format!(
            "the content of {shown} was never synced, so its name can be durable before it is: sync the file before the rename"
        )
    }
}

/// Returns whether a file is the one that was renamed to `path`, under either name.
fn is_file(log: &[DiskOperation], named: usize, file: &Path, path: &Path) -> bool {
    file == path || matches!(&log[named], DiskOperation::Rename(from, _) if from == file)
}

/// Returns whether a file has a name under which the store reads it: it was renamed to it, or is never renamed away.
fn is_read(log: &[DiskOperation], path: &Path) -> bool {
    !log.iter().any(|operation| matches!(operation, DiskOperation::Rename(from, _) if from == path))
}

fn synced_later(log: &[DiskOperation], from: usize, cut: usize, folder: &Path) -> bool {
    let syncs = |operations: &[DiskOperation]| {
        operations.iter().any(|operation| matches!(operation, DiskOperation::SyncFolder(path) if path == folder))
    };
    !syncs(&log[from..cut]) && syncs(&log[cut..])
}

fn shown(folder: &Path) -> String {
    if folder.as_os_str().is_empty() { "of the store".into() } else { folder.display().to_string() }
}
