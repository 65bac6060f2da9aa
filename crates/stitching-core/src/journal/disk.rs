//! The calls that change something on disk. All that the journal does passes through here, so that tests can see
//! each call, let it fail, and let other programs get in between.

use crate::layers::{DirHandle, EntryKind};
use cap_std::fs::OpenOptions;
use std::fs::{File, FileTimes, Permissions};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

/// What a call does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Action {
    /// A folder is made.
    CreateFolder,
    /// An empty file is made under a name that was not there.
    CreateFile,
    /// Bytes are written to a file that was made before.
    Write,
    /// A file gets the permissions, or the times, of another.
    SetAttributes,
    /// The bytes of a file are brought to the disk.
    SyncFile,
    /// The names in a folder are brought to the disk.
    SyncFolder,
    /// A file gets a second name that was not there.
    Link,
    /// A file gets another name; what had that name is gone.
    Rename,
    /// Two files swap their names.
    Exchange,
    /// A file is removed.
    RemoveFile,
    /// An empty folder is removed.
    RemoveFolder,
}

/// A call that is about to be made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Call {
    /// What it does.
    pub action: Action,
    /// The file or folder; of a link, a rename or an exchange the one that gets the name.
    pub path: PathBuf,
}

/// What became of a file that was to get a second name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Linked {
    /// It has both names.
    Both,
    /// It has the new name only.
    Renamed,
}

/// Asked before each call; an error stands for the call having failed. For tests.
pub type CallHook<'h> = dyn Fn(&Call) -> io::Result<()> + Sync + 'h;

/// The hook that lets every call pass.
pub const NO_HOOK: &CallHook<'static> = &|_| Ok(());

/// The way to all calls that change something on disk.
#[derive(Clone, Copy)]
pub(super) struct Disk<'h> {
    hook: &'h CallHook<'h>,
}

impl<'h> Disk<'h> {
    pub fn new(hook: &'h CallHook<'h>) -> Disk<'h> {
        Disk { hook }
    }

    fn announce(&self, action: Action, path: PathBuf) -> io::Result<()> {
        (self.hook)(&Call { action, path })
    }

    /// Makes the folder `name`; it may be there already.
    pub fn create_folder(&self, folder: &DirHandle, name: &str) -> io::Result<()> {
        if folder.kind(name)? == Some(EntryKind::Folder) {
            return Ok(());
        }
        self.announce(Action::CreateFolder, folder.path().join(name))?;
        match folder.dir().create_dir(name) {
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => Ok(()),
            other => other,
        }
    }

    /// Makes the file `name`, which must not be there: not as a link either.
    pub fn create_file(&self, folder: &DirHandle, name: &str) -> io::Result<NewFile<'h>> {
        let path = folder.path().join(name);
        self.announce(Action::CreateFile, path.clone())?;
        let file = folder.dir().open_with(name, OpenOptions::new().write(true).create_new(true))?;
        Ok(NewFile { file: file.into_std(), path, disk: *self })
    }

    /// Brings the names in a folder to the disk, where the system has a way to.
    pub fn sync_folder(&self, folder: &DirHandle) -> io::Result<()> {
        self.announce(Action::SyncFolder, folder.path().to_owned())?;
        #[cfg(unix)]
        {
            use io::ErrorKind::{InvalidInput, PermissionDenied, Unsupported};
            match folder.dir().open(".").and_then(|handle| handle.sync_all()) {
                // Some file systems have no such call, and a folder that may not be listed cannot be opened.
                Err(error) if !matches!(error.kind(), InvalidInput | PermissionDenied | Unsupported) => {
                    return Err(error);
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// Renames `from` to `to`; what was there under that name is gone.
    pub fn rename(&self, folder: &DirHandle, from: &str, to: &str) -> io::Result<()> {
        self.announce(Action::Rename, folder.path().join(to))?;
        folder.dir().rename(from, folder.dir(), to)
    }

    /// Renames `from` to `to`, if there is nothing of that name yet.
    pub fn rename_new(&self, folder: &DirHandle, from: &str, to: &str) -> io::Result<()> {
        match self.link_new(folder, from, to)? {
            Linked::Both => self.remove_file(folder, from),
            Linked::Renamed => Ok(()),
        }
    }

    /// Gives `from` the second name `to`, if there is nothing of that name yet. Where the file system has no second
    /// names, it is renamed.
    pub fn link_new(&self, folder: &DirHandle, from: &str, to: &str) -> io::Result<Linked> {
        let announced = self.announce(Action::Link, folder.path().join(to));
        match announced.and_then(|()| folder.dir().hard_link(from, folder.dir(), to)) {
            Ok(()) => return Ok(Linked::Both),
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => return Err(error),
            Err(_) => {}
        }
        if folder.kind(to)?.is_some() {
            return Err(io::ErrorKind::AlreadyExists.into());
        }
        self.rename(folder, from, to)?;
        Ok(Linked::Renamed)
    }

    /// Puts the file `new` in the place of the file `target`, which gets the name `old`. Where the system can, there
    /// is no instant at which `target` is not there.
    pub fn replace(&self, folder: &DirHandle, new: &str, target: &str, old: &str) -> io::Result<()> {
        let announced = self.announce(Action::Exchange, folder.path().join(target));
        match announced.and_then(|()| exchange(folder, new, target)) {
            Ok(()) => self.rename(folder, new, old),
            Err(error) if error.kind() == io::ErrorKind::Unsupported => {
                self.rename(folder, target, old)?;
                self.rename_new(folder, new, target)
            }
            Err(error) => Err(error),
        }
    }

    /// Removes the file `name`, if it is there.
    pub fn remove_file(&self, folder: &DirHandle, name: &str) -> io::Result<()> {
        if folder.kind(name)?.is_none() {
            return Ok(());
        }
        self.announce(Action::RemoveFile, folder.path().join(name))?;
        match folder.dir().remove_file(name) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
            other => other,
        }
    }

    /// Removes the folder `name`, if nothing lies in it.
    pub fn remove_folder(&self, folder: &DirHandle, name: &str) -> io::Result<()> {
        self.announce(Action::RemoveFolder, folder.path().join(name))?;
        folder.dir().remove_dir(name)
    }
}

/// Swaps two names at once; `Unsupported` where the system or the file system cannot.
#[cfg(any(target_os = "linux", target_vendor = "apple"))]
fn exchange(folder: &DirHandle, a: &str, b: &str) -> io::Result<()> {
    use rustix::fs::{RenameFlags, renameat_with};
    use rustix::io::Errno;
    let dir = folder.dir();
    renameat_with(dir, a, dir, b, RenameFlags::EXCHANGE).map_err(|error| match error {
        Errno::NOSYS | Errno::INVAL | Errno::NOTSUP => io::ErrorKind::Unsupported.into(),
        other => other.into(),
    })
}

#[cfg(not(any(target_os = "linux", target_vendor = "apple")))]
fn exchange(_: &DirHandle, _: &str, _: &str) -> io::Result<()> {
    Err(io::ErrorKind::Unsupported.into())
}

/// A file that was made by [`Disk::create_file`].
pub(super) struct NewFile<'h> {
    file: File,
    path: PathBuf,
    disk: Disk<'h>,
}

impl NewFile<'_> {
    /// Where it lies, for messages.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Gives it permissions, and if they are given the time of its last change.
    pub fn set_attributes(&self, permissions: Permissions, modified: Option<SystemTime>) -> io::Result<()> {
        self.disk.announce(Action::SetAttributes, self.path.clone())?;
        if let Some(modified) = modified {
            self.file.set_times(FileTimes::new().set_modified(modified))?;
        }
        self.file.set_permissions(permissions)
    }

    /// Brings its bytes to the disk.
    pub fn sync(&self) -> io::Result<()> {
        self.disk.announce(Action::SyncFile, self.path.clone())?;
        self.file.sync_all()
    }
}

impl Write for NewFile<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.disk.announce(Action::Write, self.path.clone())?;
        self.file.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}
