//! A disk in memory that remembers what would be left of it if the power went after any of its operations.

use bytes::Bytes;
use nut_cellar::folder::disk::{Disk, Read, Written};
use std::any::Any;
use std::collections::{BTreeMap, BTreeSet};
use std::ffi::OsString;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard};

/// Numbers that look random and are the same each time.
pub struct Dice(pub u64);

impl Dice {
    pub fn below(&mut self, end: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % end.max(1)
    }
}

/// Something that was done to the disk.
#[derive(Clone, Debug)]
pub enum Done {
    Create(PathBuf, usize),
    /// A file that was there is emptied, to be written anew under the name that it has.
    Truncate(usize),
    Append(usize, Vec<u8>),
    Sync(usize),
    Rename(PathBuf, PathBuf),
    Remove(PathBuf),
    SyncNames(PathBuf),
}

#[derive(Debug, Default)]
struct State {
    /// The contents of all files that there ever were.
    files: Vec<Vec<u8>>,
    names: BTreeMap<PathBuf, usize>,
    folders: BTreeSet<PathBuf>,
    done: Vec<Done>,
    /// So many more bytes can be written.
    room: Option<usize>,
    /// Operations that succeed before all others that make something last are refused.
    lasting_left: Option<usize>,
}

impl State {
    fn make_last(&mut self, done: Done) -> io::Result<()> {
        if let Some(left) = &mut self.lasting_left {
            *left = left.checked_sub(1).ok_or_else(|| io::Error::other("the disk does not answer"))?;
        }
        self.done.push(done);
        Ok(())
    }
}

/// A disk in memory. Clones share it.
#[derive(Clone, Debug, Default)]
pub struct TestDisk(Arc<Mutex<State>>);

impl TestDisk {
    fn state(&self) -> MutexGuard<'_, State> {
        self.0.lock().unwrap()
    }

    /// How many operations were done.
    pub fn done(&self) -> usize {
        self.state().done.len()
    }

    /// What was done so far.
    pub fn history(&self) -> Vec<Done> {
        self.state().done.clone()
    }

    /// Lets so many more things be made to last, or any number again.
    pub fn set_lasting_left(&self, left: Option<usize>) {
        self.state().lasting_left = left;
    }

    /// Lets so many more bytes be written, or any number again.
    pub fn set_room(&self, room: Option<usize>) {
        self.state().room = room;
    }
}

/// Follows a history, and knows at each point what is sure to last and what is not.
#[derive(Default)]
pub struct Replay {
    files: Vec<Vec<u8>>,
    /// For each file how much of it is synced.
    synced: Vec<usize>,
    lasting: BTreeMap<PathBuf, usize>,
    /// Changes of names that are not synced, in order.
    unsure: Vec<Done>,
}

impl Replay {
    pub fn step(&mut self, done: &Done) {
        match done {
            Done::Create(_, file) => {
                assert_eq!(*file, self.files.len());
                self.files.push(Vec::new());
                self.synced.push(0);
                self.unsure.push(done.clone());
            }
            Done::Truncate(file) => {
                self.files[*file].clear();
                self.synced[*file] = 0;
            }
            Done::Append(file, bytes) => self.files[*file].extend(bytes),
            Done::Sync(file) => self.synced[*file] = self.files[*file].len(),
            Done::Rename(..) | Done::Remove(_) => self.unsure.push(done.clone()),
            Done::SyncNames(folder) => {
                for change in std::mem::take(&mut self.unsure) {
                    if folder_of(&change) == Some(folder.as_path()) {
                        rename(&mut self.lasting, &change);
                    } else {
                        self.unsure.push(change);
                    }
                }
            }
        }
    }

    /// The disk after a program was killed: all that was done is there. `history` is what this has followed.
    pub fn killed(&self, history: &[Done]) -> TestDisk {
        let mut names = self.lasting.clone();
        self.unsure.iter().for_each(|change| rename(&mut names, change));
        let state = State { files: self.files.clone(), names, done: history.to_vec(), ..State::default() };
        TestDisk(Arc::new(Mutex::new(state)))
    }

    /// The disk after the power went: of what was not synced something may be there, whichever part and in whichever order.
    pub fn cut(&self, dice: &mut Dice) -> TestDisk {
        let mut names = self.lasting.clone();
        let keep = dice.below(4);
        for change in &self.unsure {
            // All, none, or some.
            if keep == 0 || (keep > 1 && dice.below(2) == 0) {
                rename(&mut names, change);
            }
        }
        let files =
            self.files.iter().zip(&self.synced).map(|(bytes, &synced)| torn(bytes, synced, dice)).collect();
        let folders = names.keys().flat_map(|path| path.ancestors().skip(1)).map(Path::to_owned).collect();
        TestDisk(Arc::new(Mutex::new(State { files, names, folders, ..State::default() })))
    }
}

/// A file of which all that is synced is there, and of the rest some sectors, as zeros or as written.
fn torn(bytes: &[u8], synced: usize, dice: &mut Dice) -> Vec<u8> {
    const SECTOR: usize = 64;
    let more = dice.below((bytes.len() - synced) as u64 + 1) as usize;
    let mut left = bytes[..synced + more].to_vec();
    for sector in left[synced..].chunks_mut(SECTOR) {
        if dice.below(3) == 0 {
            sector.fill(0);
        }
    }
    left
}

fn folder_of(change: &Done) -> Option<&Path> {
    match change {
        Done::Create(path, _) | Done::Rename(_, path) | Done::Remove(path) => path.parent(),
        _ => None,
    }
}

fn rename(names: &mut BTreeMap<PathBuf, usize>, change: &Done) {
    match change {
        Done::Create(path, file) => drop(names.insert(path.clone(), *file)),
        Done::Rename(from, to) => {
            if let Some(file) = names.remove(from) {
                names.insert(to.clone(), file);
            }
        }
        Done::Remove(path) => drop(names.remove(path)),
        _ => {}
    }
}

fn missing() -> io::Error {
    io::ErrorKind::NotFound.into()
}

impl Disk for TestDisk {
    fn make_folder(&self, path: &Path) -> io::Result<()> {
        self.state().folders.extend(path.ancestors().map(Path::to_owned));
        Ok(())
    }

    fn names(&self, path: &Path) -> io::Result<Vec<OsString>> {
        let state = self.state();
        let inside = state.names.keys().filter(|name| name.parent() == Some(path));
        Ok(inside.filter_map(|name| name.file_name()).map(OsString::from).collect())
    }

    fn create(&self, path: &Path, replaced: bool) -> io::Result<Box<dyn Written>> {
        let mut state = self.state();
        if !replaced && state.names.contains_key(path) {
            return Err(io::ErrorKind::AlreadyExists.into());
        }
        if let Some(&file) = state.names.get(path) {
            state.files[file].clear();
            state.done.push(Done::Truncate(file));
            return Ok(Box::new(TestFile { disk: self.clone(), file }));
        }
        let file = state.files.len();
        state.files.push(Vec::new());
        let done = Done::Create(path.to_owned(), file);
        rename(&mut state.names, &done);
        state.done.push(done);
        Ok(Box::new(TestFile { disk: self.clone(), file }))
    }

    fn rename(&self, from: &Path, to: &Path) -> io::Result<()> {
        let mut state = self.state();
        let done = Done::Rename(from.to_owned(), to.to_owned());
        rename(&mut state.names, &done);
        state.done.push(done);
        Ok(())
    }

    fn sync_names(&self, path: &Path) -> io::Result<()> {
        self.state().make_last(Done::SyncNames(path.to_owned()))
    }

    fn sync(&self, path: &Path) -> io::Result<()> {
        let mut state = self.state();
        let file = *state.names.get(path).ok_or_else(missing)?;
        state.make_last(Done::Sync(file))
    }

    fn remove(&self, path: &Path) -> io::Result<()> {
        let mut state = self.state();
        let done = Done::Remove(path.to_owned());
        state.names.remove(path).ok_or_else(missing)?;
        state.done.push(done);
        Ok(())
    }

    fn remove_folder(&self, path: &Path) -> io::Result<()> {
        self.state().folders.remove(path);
        Ok(())
    }

    fn read(&self, path: &Path) -> io::Result<Bytes> {
        let file = self.open(path, false)?;
        file.read(0, file.length())
    }

    fn open(&self, path: &Path, _: bool) -> io::Result<Box<dyn Read>> {
        let state = self.state();
        let file = state.names.get(path).ok_or_else(missing)?;
        Ok(Box::new(Bytes::from(state.files[*file].clone())))
    }

    fn lock(&self, _: &Path, _: bool) -> io::Result<Option<Box<dyn Any + Send + Sync>>> {
        Ok(Some(Box::new(())))
    }
}

#[derive(Debug)]
struct TestFile {
    disk: TestDisk,
    file: usize,
}

impl Written for TestFile {
    fn append(&self, bytes: &[u8]) -> io::Result<()> {
        let mut state = self.disk.state();
        if let Some(room) = &mut state.room {
            *room = room.checked_sub(bytes.len()).ok_or(io::ErrorKind::StorageFull)?;
        }
        state.files[self.file].extend_from_slice(bytes);
        state.done.push(Done::Append(self.file, bytes.to_vec()));
        Ok(())
    }

    fn sync(&self) -> io::Result<()> {
        self.disk.state().make_last(Done::Sync(self.file))
    }
}
