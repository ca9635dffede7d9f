//! Runs under attack: other threads, as another user and as root, write, swap and move while the program removes.
//!
//! Each round lays out a small tree, plans all of it, lets the attackers loose, carries the plan out and looks for what
//! must still be there. The suite runs some seconds of it; `scripts/attack` runs it for longer (`ATTACK_SECONDS` for
//! each attack and file system) and prints how often what was tried.
#![allow(missing_docs, clippy::unwrap_used, clippy::unused_self)]

#[path = "../common/mod.rs"]
mod common;
mod field;

use std::collections::{BTreeMap, BTreeSet};
use std::fs::OpenOptions;
use std::io::Write;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::fs::{FileExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};

use field::{OTHER, become_user, on_each_file_system, one_by_one, pause};
use rustix::fs::{AtFlags, Mode, OFlags, RenameFlags};

/// An owner rewrites files in place, as long as before, and sets their times back.
#[test]
fn what_its_owner_writes_while_it_is_taken_is_not_lost() {
    on_each_file_system("rewritten in place", |field, tally| {
        let files = field.files("rewritten", 60, 4000);
        let plan = field.plan(&files);
        // the last number that was written whole into each file, and whether the file was still reachable then
        let written: Mutex<BTreeMap<PathBuf, u64>> = Mutex::new(BTreeMap::new());
        let number = AtomicU64::new(1);
        let run = field.attacked(tally, &plan, 1, &|stop| {
            become_user(OTHER);
            for path in one_by_one(&files, stop).map(|n| &files[n]) {
                let Ok(file) = OpenOptions::new().read(true).write(true).open(path) else {
                    continue;
                };
                let times = file.metadata().unwrap().modified().unwrap();
                let number = number.fetch_add(1, Relaxed);
                if file.write_all_at(format!("{number:020}").as_bytes(), 0).is_ok() {
                    file.set_modified(times).unwrap();
                    written.lock().unwrap().insert(path.clone(), number);
                }
            }
        });
        let written = written.into_inner().unwrap();
        for path in &files {
            tally.tries += 1;
            let Some(number) = written.get(path) else { continue };
            let kept = field.contents(&run, path);
            let kept = kept
                .iter()
                .any(|contents| contents.starts_with(format!("{number:020}").as_bytes()));
            tally.lost(!kept, || format!("{path:?} with {number}, {}", run.state_of(path)));
        }
        field.put_back();
    });
}

/// A logger opens its file, writes a line and closes it, over and over.
#[test]
fn a_line_that_was_written_to_a_log_is_somewhere() {
    on_each_file_system("logged", |field, tally| {
        let files = field.files("logs", 60, 200);
        let plan = field.plan(&files);
        let lines: Mutex<BTreeMap<PathBuf, Vec<String>>> = Mutex::new(BTreeMap::new());
        let number = AtomicU64::new(1);
        let run = field.attacked(tally, &plan, 2, &|stop| {
            become_user(OTHER);
            for path in one_by_one(&files, stop).map(|n| &files[n]) {
                // without O_CREAT: a new file of that name is another matter
                let Ok(mut file) = OpenOptions::new().append(true).open(path) else { continue };
                let line = format!("line {}\n", number.fetch_add(1, Relaxed));
                if file.write_all(line.as_bytes()).is_ok() {
                    lines.lock().unwrap().entry(path.clone()).or_default().push(line);
                }
            }
        });
        for (path, lines) in lines.into_inner().unwrap() {
            let kept = field.contents(&run, &path);
            let kept: Vec<BTreeSet<&[u8]>> = kept
                .iter()
                .map(|contents| contents.split_inclusive(|b| *b == b'\n').collect())
                .collect();
            for line in &lines {
                tally.tries += 1;
                let is_kept = kept.iter().any(|lines| lines.contains(line.as_bytes()));
                tally.lost(!is_kept, || format!("{path:?} {line:?}, {}", run.told(&path)));
            }
        }
        field.put_back();
    });
}

/// A process that has a directory open, and hides that it has, moves new files into it and over what is there.
#[test]
fn newcomers_to_a_directory_that_is_emptied_are_somewhere() {
    for user in [OTHER, 0] {
        let name = if user == 0 { "moved in, as root" } else { "moved in, as its owner" };
        on_each_file_system(name, |field, tally| {
            let directories: Vec<PathBuf> = (0..6)
                .map(|n| {
                    field.files(&format!("d{n}/below"), 100, 100);
                    field.root.join(format!("d{n}"))
                })
                .collect();
            let plan = field.plan(&directories);
            let nest = field.nest();
            let held: Vec<Hidden> =
                directories.iter().map(|path| Hidden::new(&path.join("below"))).collect();
            let newcomers: Mutex<Vec<String>> = Mutex::new(Vec::new());
            let number = AtomicU64::new(1);
            let run = field.attacked(tally, &plan, 1, &|stop| {
                become_user(user);
                // one half of them, as soon as each has left its place
                let mut left: Vec<usize> = (0..directories.len()).step_by(2).collect();
                while !stop.load(Relaxed) && !left.is_empty() {
                    left.retain(|n| {
                        if directories[*n].exists() {
                            return true;
                        }
                        let directory = held[*n].take();
                        for _ in 0..8 {
                            let number = number.fetch_add(1, Relaxed);
                            // while it is looked at again, and while it is emptied
                            pause(number * 389 % 1500);
                            let name = format!("newcomer-{number}.");
                            let made = nest.join(&name);
                            if std::fs::write(&made, &name).is_err() {
                                continue;
                            }
                            // under a name of its own, or over one that is about to be removed, which nobody but
                            // root could still do then: see docs/reliability.md
                            let over = format!("{:02}", 99 - number % 60);
                            let is_own = user == 0 || number.is_multiple_of(2);
                            let to = if is_own { &name } else { &over };
                            let cwd = rustix::fs::CWD;
                            if rustix::fs::renameat(cwd, &made, &directory, to.as_str()).is_ok() {
                                newcomers.lock().unwrap().push(name);
                            }
                        }
                        held[*n].give(&directory);
                        false
                    });
                }
            });
            drop(held);
            let all = field.everything(&run);
            for name in newcomers.into_inner().unwrap() {
                tally.tries += 1;
                let kept = all.contains(name.as_bytes());
                tally.lost(!kept, || format!("{name}: {:?}", run.states()));
            }
            field.put_back();
        });
    }
}

/// A descriptor that is kept where `/proc` does not show it: in the queue of a socket.
struct Hidden {
    sockets: (OwnedFd, OwnedFd),
}

impl Hidden {
    fn new(directory: &Path) -> Self {
        use rustix::net::{AddressFamily, SocketFlags, SocketType, socketpair};
        let pair = socketpair(AddressFamily::UNIX, SocketType::DGRAM, SocketFlags::CLOEXEC, None);
        let hidden = Self { sockets: pair.unwrap() };
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let directory = rustix::fs::open(directory, flags, Mode::empty()).unwrap();
        hidden.give(&directory);
        hidden
    }

    fn give(&self, directory: &OwnedFd) {
        use rustix::net::{SendAncillaryBuffer, SendAncillaryMessage, SendFlags, sendmsg};
        let mut space = [std::mem::MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(1))];
        let mut control = SendAncillaryBuffer::new(&mut space);
        let descriptors = [directory.as_fd()];
        assert!(control.push(SendAncillaryMessage::ScmRights(&descriptors)));
        let data = [std::io::IoSlice::new(b"x")];
        sendmsg(&self.sockets.0, &data, &mut control, SendFlags::empty()).unwrap();
    }

    fn take(&self) -> OwnedFd {
        use rustix::net::{RecvAncillaryBuffer, RecvAncillaryMessage, RecvFlags, recvmsg};
        let mut space = [std::mem::MaybeUninit::uninit(); rustix::cmsg_space!(ScmRights(1))];
        let mut control = RecvAncillaryBuffer::new(&mut space);
        let mut byte = [0];
        let mut data = [std::io::IoSliceMut::new(&mut byte)];
        recvmsg(&self.sockets.1, &mut data, &mut control, RecvFlags::CMSG_CLOEXEC).unwrap();
        let mut messages = control.drain();
        match messages.next() {
            Some(RecvAncillaryMessage::ScmRights(mut descriptors)) => descriptors.next().unwrap(),
            _ => panic!("a descriptor was sent"),
        }
    }
}

/// Targets, and the directories on the way to them, are swapped for what was never planned.
#[test]
fn what_is_swapped_in_for_a_target_is_never_removed() {
    for user in [OTHER, 0] {
        let name = if user == 0 { "swapped, as root" } else { "swapped, as their owner" };
        on_each_file_system(name, |field, tally| {
            let files = field.files("swapped", 30, 500);
            let directories: Vec<PathBuf> = (0..4)
                .map(|n| {
                    field.files(&format!("swapped-{n}"), 3, 100);
                    field.root.join(format!("swapped-{n}"))
                })
                .collect();
            let targets: Vec<PathBuf> = files.iter().chain(&directories).cloned().collect();
            let plan = field.plan(&targets);
            // what must stay: a file and a directory for each target, and what lies behind a link
            let nest = field.nest();
            let precious: Vec<PathBuf> =
                (0..targets.len()).map(|n| nest.join(format!("precious-{n}"))).collect();
            for (n, path) in precious.iter().enumerate() {
                std::fs::create_dir(path).unwrap();
                std::fs::write(path.join("00"), format!("precious {n}")).unwrap();
                field.owned_by_other(path);
                field.owned_by_other(&path.join("00"));
            }
            let swaps = AtomicU64::new(0);
            let run = field.attacked(tally, &plan, 1, &|stop| {
                become_user(user);
                let flags = RenameFlags::EXCHANGE;
                let swap = |a: &Path, b: &Path| {
                    let cwd = rustix::fs::CWD;
                    let done = rustix::fs::renameat_with(cwd, a, cwd, b, flags).is_ok();
                    swaps.fetch_add(u64::from(done), Relaxed);
                };
                let way = field.root.join("swapped");
                for n in one_by_one(&targets, stop) {
                    swap(&targets[n], &precious[n]);
                    if n % 2 == 0 {
                        swap(&targets[n], &precious[n]);
                    }
                    // the way to the files is another directory for a moment, or a link
                    if n % 8 == 0 {
                        swap(&way, &precious[0]);
                        swap(&way, &precious[0]);
                        let link = nest.join("link");
                        let _ = std::os::unix::fs::symlink(&precious[1], &link);
                        swap(&way, &link);
                        swap(&way, &link);
                    }
                }
            });
            tally.tries += swaps.load(Relaxed);
            let all = field.everything(&run);
            for n in 0..precious.len() {
                let kept = all.contains(format!("precious {n}").as_bytes());
                tally.lost(!kept, || format!("precious {n}: {:?}", run.states()));
            }
            field.put_back();
        });
    }
}

/// What was deleted, set aside or archived was taken whole, although somebody links, opens and locks it all the time.
#[test]
fn who_only_looks_disturbs_and_loses_nothing() {
    on_each_file_system("looked at", |field, tally| {
        let files = field.files("seen", 40, 3000);
        let before: Vec<Vec<u8>> = files.iter().map(|path| std::fs::read(path).unwrap()).collect();
        let plan = field.plan(&files);
        let looks = AtomicU64::new(0);
        let nest = field.nest();
        let run = field.attacked(tally, &plan, 2, &|stop| {
            become_user(OTHER);
            for n in one_by_one(&files, stop) {
                let path = &files[n];
                let _ = OpenOptions::new().read(true).custom_flags(nonblock()).open(path);
                let again = nest.join(format!("again-{n}"));
                let cwd = rustix::fs::CWD;
                if n % 4 == 0
                    && rustix::fs::linkat(cwd, path, cwd, &again, AtFlags::empty()).is_ok()
                {
                    let _ = std::fs::remove_file(&again);
                }
                looks.fetch_add(1, Relaxed);
            }
        });
        tally.tries += looks.load(Relaxed);
        for (path, before) in files.iter().zip(&before) {
            let kept = field.contents(&run, path);
            let is_deleted = run.state_of(path) == "deleted";
            let whole = kept.iter().any(|contents| contents == before);
            tally.lost(!whole && !is_deleted, || format!("{path:?}: {}", run.told(path)));
        }
        field.put_back();
    });
}

fn nonblock() -> i32 {
    OFlags::NONBLOCK.bits() as i32
}
