//! A project with things beside it that nothing may touch.

use std::path::PathBuf;
use std::sync::OnceLock;
use stitching_core::Project;
use stitching_core::journal::{Journal, KeyFile};

/// A project, made anew for each input, and a file beside it.
pub struct World {
    base: PathBuf,
}

const OUTSIDE: &[u8] = b"precious\n";

impl World {
    /// Makes it, with these files in the tool's own folder.
    pub fn new(own: &[(&str, &[u8])]) -> World {
        static BASE: OnceLock<PathBuf> = OnceLock::new();
        let base = BASE.get_or_init(|| tempfile::tempdir().expect("a folder").keep()).clone();
        let project = base.join("project");
        let _ = std::fs::remove_dir_all(&project);
        let write = |path: &str, bytes: &[u8]| {
            let path = project.join(path);
            std::fs::create_dir_all(path.parent().expect("a folder")).expect("made");
            std::fs::write(path, bytes).expect("written");
        };
        write("mod/a.txt", b"K\tV\nx\t1\n");
        write("mod/deep/b.txt", b"K\tA\np\tx\n");
        write("s.toml", b"[table.a]\nfiles = \"a.txt\"\nformat = { kind = \"delimited\" }\nkey = \"K\"\n");
        write("stitching.toml", b"[project]\nschema = \"s.toml\"\n[[layer]]\nname = \"mod\"\npath = \"mod\"\n");
        for (path, bytes) in own {
            write(&format!(".stitching/{path}"), bytes);
        }
        std::fs::write(base.join("outside"), OUTSIDE).expect("written");
        World { base }
    }

    pub fn key(&self) -> KeyFile {
        KeyFile::in_folder(&self.base.join("key"))
    }

    /// Does something with the project's journal, and looks whether anything beside the project changed.
    pub fn with_journal(&self, work: impl FnOnce(Journal<'_>)) {
        let project = self.base.join("project");
        let opened = Project::open(&project).expect("it opens");
        work(Journal::new(&project, opened.stack.mod_root().expect("a mod"), &|_| {}).with_key(self.key()));
        assert_eq!(std::fs::read(self.base.join("outside")).expect("there"), OUTSIDE);
        let names = std::fs::read_dir(&self.base).expect("a folder").count();
        assert!(names <= 3, "something was made beside the project");
        assert!(project.join("s.toml").is_file() && project.join("stitching.toml").is_file());
    }
}
