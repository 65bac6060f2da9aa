//! Folders opened once, below which no link is followed.
//!
//! A mod is foreign data. It can bring a link in the place of any folder or file, the tool's own among them.
//! What is written goes therefore through a handle of the folder it lies in, one name at a time, and a link
//! on the way is an error. Only the root itself may be a link: the user named it.

use cap_fs_ext::{DirExt, FollowSymlinks, OpenOptionsFollowExt};
use cap_std::ambient_authority;
use cap_std::fs::{Dir, Metadata, OpenOptions};
use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};

/// The folder with all that the tool keeps for a project, beside `stitching.toml`.
pub const OWN_FOLDER: &str = ".stitching";

/// An open folder.
#[derive(Debug)]
pub struct DirHandle {
    dir: Dir,
    path: PathBuf,
}

/// What a name in a folder stands for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EntryKind {
    /// A regular file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link, wherever it leads.
    Link,
    /// A pipe, a socket, a device.
    Other,
}

impl DirHandle {
    /// Opens the folder at `path`, which may be a link to one.
    ///
    /// # Errors
    /// When there is none, or the system says no.
    pub fn open(path: &Path) -> io::Result<DirHandle> {
        Ok(DirHandle { dir: Dir::open_ambient_dir(path, ambient_authority())?, path: path.to_owned() })
    }

    /// The folder in which the tool keeps what it needs for the project in `project`; `None` if there is none yet.
    ///
    /// # Errors
    /// When a link or a file stands in its place, or the system says no.
    pub fn open_own(project: &Path) -> io::Result<Option<DirHandle>> {
        let project = DirHandle::open(project)?;
        match project.kind(OWN_FOLDER)? {
            None => Ok(None),
            Some(_) => project.child(OWN_FOLDER).map(Some),
        }
    }

    /// Another handle of the same folder.
    ///
    /// # Errors
    /// When the system has no handles left.
    pub fn try_clone(&self) -> io::Result<DirHandle> {
        Ok(DirHandle { dir: self.dir.try_clone()?, path: self.path.clone() })
    }

    /// Where the folder lies, for messages.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The folder as the system knows it.
    pub(crate) fn dir(&self) -> &Dir {
        &self.dir
    }

    /// The folder `name` in this one.
    ///
    /// # Errors
    /// When there is none, or a link or a file has its place.
    pub fn child(&self, name: &str) -> io::Result<DirHandle> {
        if self.kind(name)? == Some(EntryKind::Link) {
            return Err(is_a_link());
        }
        Ok(DirHandle { dir: self.dir.open_dir_nofollow(name)?, path: self.path.join(name) })
    }

    /// The folder at `path` below this one, `/` between the names; this one itself if it is empty.
    ///
    /// # Errors
    /// As [`DirHandle::child`], for each name on the way.
    pub fn descend(&self, path: &str) -> io::Result<DirHandle> {
        let mut names = path.split('/').filter(|name| !name.is_empty());
        let Some(first) = names.next() else { return self.try_clone() };
        let mut folder = self.child(first)?;
        for name in names {
            folder = folder.child(name)?;
        }
        Ok(folder)
    }

    /// What `name` stands for; `None` if there is nothing of the name.
    ///
    /// # Errors
    /// When the system says no.
    pub fn kind(&self, name: &str) -> io::Result<Option<EntryKind>> {
        Ok(self.metadata(name)?.map(|metadata| match metadata.file_type() {
            kind if kind.is_symlink() => EntryKind::Link,
            kind if kind.is_dir() => EntryKind::Folder,
            kind if kind.is_file() => EntryKind::File,
            _ => EntryKind::Other,
        }))
    }

    /// What the system knows of `name` itself; `None` if there is nothing of the name.
    ///
    /// # Errors
    /// When the system says no.
    pub fn metadata(&self, name: &str) -> io::Result<Option<Metadata>> {
        match self.dir.symlink_metadata(name) {
            Ok(metadata) => Ok(Some(metadata)),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(error),
        }
    }

    /// Opens the regular file `name` for reading.
    ///
    /// # Errors
    /// When there is none, or something else has its place: reading a pipe would never end.
    pub fn open_file(&self, name: &str) -> io::Result<File> {
        self.open_with(name, OpenOptions::new().read(true))
    }

    /// Opens the regular file `name`, which must not be a link.
    pub(crate) fn open_with(&self, name: &str, options: &OpenOptions) -> io::Result<File> {
        match self.kind(name)? {
            Some(EntryKind::Link) => return Err(is_a_link()),
            Some(EntryKind::Folder) => return Err(io::ErrorKind::IsADirectory.into()),
            Some(EntryKind::Other) => return Err(io::Error::other("it is not a regular file")),
            Some(EntryKind::File) | None => {}
        }
        let mut options = options.clone();
        Ok(self.dir.open_with(name, options.follow(FollowSymlinks::No))?.into_std())
    }

    /// The bytes of the regular file `name`; `None` if there is none.
    ///
    /// # Errors
    /// As [`DirHandle::open_file`], and when it has more than `most` bytes.
    pub fn read(&self, name: &str, most: u64) -> io::Result<Option<Vec<u8>>> {
        let file = match self.open_file(name) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            other => other?,
        };
        let mut bytes = Vec::new();
        file.take(most + 1).read_to_end(&mut bytes)?;
        if bytes.len() as u64 > most {
            return Err(io::Error::new(
                io::ErrorKind::FileTooLarge,
                format!("it has more than {most} bytes"),
            ));
        }
        Ok(Some(bytes))
    }
}

fn is_a_link() -> io::Error {
    io::Error::other("it is a link, and nothing is read or written through links here")
}

#[cfg(all(test, unix))]
mod tests {
    use super::*;
    use std::fs;
    use std::os::unix::fs::symlink;

    #[test]
    fn links_are_not_followed_below_the_root() {
        let (inside, outside) =
            (tempfile::tempdir().expect("a folder"), tempfile::tempdir().expect("a folder"));
        fs::write(outside.path().join("secret"), "x").expect("written");
        fs::create_dir(inside.path().join("real")).expect("made");
        fs::write(inside.path().join("real/a"), "a").expect("written");
        symlink(outside.path(), inside.path().join("folder")).expect("linked");
        symlink(outside.path().join("secret"), inside.path().join("file")).expect("linked");
        symlink("real/a", inside.path().join("near")).expect("linked");
        let root = DirHandle::open(inside.path()).expect("it opens");
        for name in ["file", "near"] {
            assert_eq!(root.kind(name).expect("it is there"), Some(EntryKind::Link));
            assert!(root.open_file(name).expect_err("a link").to_string().contains("is a link"));
        }
        assert!(root.child("folder").is_err() && root.descend("folder/x").is_err());
        assert!(root.child("..").is_err(), "nothing leads up");
        assert_eq!(root.descend("real").expect("a folder").read("a", 1).expect("read"), Some(b"a".to_vec()));
        assert!(root.descend("real").expect("a folder").read("a", 0).is_err(), "it is too large");
        assert_eq!(root.read("none", 9).expect("nothing"), None);
    }

    #[test]
    fn a_pipe_is_not_waited_for() {
        let folder = tempfile::tempdir().expect("a folder");
        let made = std::process::Command::new("mkfifo").arg(folder.path().join("pipe")).status();
        if made.is_ok_and(|status| status.success()) {
            let root = DirHandle::open(folder.path()).expect("it opens");
            assert!(root.read("pipe", 9).is_err());
        }
    }
}
