//! Archives in stores: real servers, and a way to them that is cut, delayed, answered otherwise and falsified.
#![allow(missing_docs, clippy::unwrap_used)]

mod common;

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Write};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use common::servers::{Fault, Proxy, S3_LOGIN, Scripted, Server, answer};
use common::{FONDACO, Ran, differences, picture};
use serde_json::Value;

const PATIENCE: Duration = Duration::from_secs(20);

/// A tree, a state directory, and how to come into a store.
struct Pier {
    _directory: tempfile::TempDir,
    at: PathBuf,
    depot: String,
    variables: BTreeMap<&'static str, String>,
}

impl Pier {
    fn new(depot: String) -> Self {
        let directory = tempfile::tempdir().unwrap();
        let at = directory.path().canonicalize().unwrap();
        std::fs::create_dir_all(at.join("tree/deeper")).unwrap();
        let mut pier = Self { _directory: directory, at, depot, variables: BTreeMap::new() };
        pier.variables.insert("HOME", pier.at.to_str().unwrap().to_owned());
        pier
    }

    fn s3(port: u16) -> Self {
        let mut pier = Self::new("s3://seamark/pier".to_owned());
        pier.variables.extend([
            ("AWS_ACCESS_KEY_ID", S3_LOGIN.0.to_owned()),
            ("AWS_SECRET_ACCESS_KEY", S3_LOGIN.1.to_owned()),
        ]);
        pier.by(port);
        pier
    }

    fn webdav(port: u16) -> Self {
        Self::new(format!("http://127.0.0.1:{port}/dav/pier"))
    }

    /// Goes to the S3 store through another port.
    fn by(&mut self, port: u16) {
        self.variables.insert("AWS_ENDPOINT_URL", format!("http://127.0.0.1:{port}"));
    }

    fn tree(&self) -> PathBuf {
        self.at.join("tree")
    }

    /// Two files and a directory that hardly compress; the same for the same number.
    fn fill(&self, number: u64, bytes: usize) {
        for (place, name) in ["tide.raw", "deeper/current.raw", "notes"].iter().enumerate() {
            let mut hash = blake3::Hasher::new();
            hash.update(&number.to_le_bytes()).update(&[place as u8]);
            let mut contents = vec![0; bytes / (place + 1)];
            hash.finalize_xof().fill(&mut contents);
            std::fs::write(self.tree().join(name), contents).unwrap();
        }
    }

    fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(FONDACO);
        command.env_clear().envs(&self.variables).env("FONDACO_STATE", self.at.join("state"));
        command.args(arguments).current_dir("/");
        command
    }

    fn fondaco(&self, arguments: &[&str]) -> Ran {
        Ran(self.command(arguments).output().unwrap())
    }

    /// Plans the tree's three entries for the depot; gives the plan's path.
    fn plan(&self) -> String {
        let plan = self.at.join("plan.json").to_str().unwrap().to_owned();
        let path = |name: &str| self.tree().join(name).to_str().unwrap().to_owned();
        let [a, b, c] = ["tide.raw", "deeper", "notes"].map(path);
        let chosen = ["plan", "--archive", &a, "--archive", &b, "--archive", &c];
        let rest = ["--depot", &self.depot, "-o", &plan, "--force"];
        self.fondaco(&[&chosen[..], &rest].concat()).ok();
        plan
    }

    fn carry_out(&self) -> Ran {
        let plan = self.plan();
        self.fondaco(&["carry-out", &plan])
    }

    fn last_run(&self) -> Value {
        let runs = self.fondaco(&["journal", "--json"]).json();
        let number =
            runs["runs"].as_array().unwrap().iter().map(|run| run["run"].as_i64().unwrap());
        let number = number.max().unwrap();
        self.fondaco(&["journal", &number.to_string(), "--json"]).json()
    }
}

/// The names of all objects of the S3 server, and of uploads that were begun.
fn objects(server: &Server) -> Vec<String> {
    fn below(at: &Path, names: &mut Vec<String>) {
        for entry in std::fs::read_dir(at).unwrap() {
            let path = entry.unwrap().path();
            let name = path.file_name().unwrap().to_str().unwrap().to_owned();
            match path.is_dir() {
                true => below(&path, names),
                // what the server itself notes about objects, and not parts of uploads
                false if name.starts_with(".bucket") && !name.contains(".part") => {}
                false => names.push(name),
            }
        }
    }
    let mut names = Vec::new();
    below(&server.root, &mut names);
    names.sort();
    names
}

/// The names of all objects of the WebDAV server's collection.
fn members(server: &Server) -> Vec<String> {
    let left = std::fs::read_dir(server.root.join("www/dav/pier")).unwrap();
    let names = left.map(|entry| entry.unwrap().file_name().into_string().unwrap());
    // what the server itself notes about objects
    names.filter(|name| name != ".DAV").collect()
}

/// What is archived comes back as it was, an entry alone too, and a standard tool can read the archive.
fn goes_and_comes_back(pier: &Pier, stored: impl Fn(&str) -> PathBuf) {
    pier.fill(1, 25 << 20);
    let before = picture(&pier.tree());
    let checked = pier.fondaco(&["depots", "check", &pier.depot]).ok();
    assert!(checked.out().contains("written, read back and removed"), "{}", checked.out());
    let ran = pier.carry_out().ok();
    assert!(ran.out().contains("3 done, 0 refused"), "{}", ran.out());
    assert_eq!(std::fs::read_dir(pier.tree()).unwrap().count(), 0);

    let listed = pier.fondaco(&["depots", "--json"]).json();
    let depots = listed["depots"].as_array().unwrap();
    let depot = depots.iter().find(|depot| depot["path"] == pier.depot.as_str()).unwrap();
    let archive = depot["archives"][0]["path"].as_str().unwrap().to_owned();
    assert_eq!(depot["archives"].as_array().unwrap().len(), 1);
    pier.fondaco(&["depots", "verify", &archive]).ok();
    let name = archive.rsplit('/').next().unwrap();
    let list = Command::new("tar").arg("--zstd").arg("-tf").arg(stored(name)).output().unwrap();
    let list = String::from_utf8_lossy(&list.stdout).into_owned();
    assert!(list.contains("tide.raw") && list.contains("deeper/current.raw"), "{list}");
    let sums = stored(name).with_file_name(name.replace(".tar.zst", ".sha256"));
    let mut check = Command::new("sha256sum");
    check.arg("-c").arg(&sums).current_dir(sums.parent().unwrap());
    assert!(check.output().unwrap().status.success());

    let alone = pier.at.join("alone");
    std::fs::create_dir(&alone).unwrap();
    let original = pier.tree().join("notes");
    let to = alone.to_str().unwrap();
    let restore = ["depots", "restore", &archive, "--to", to, original.to_str().unwrap()];
    pier.fondaco(&restore).ok();
    let back = pier.last_run()["run"].as_i64().unwrap().to_string();
    pier.fondaco(&["put-back", &back]).ok();
    let after = picture(&pier.tree());
    assert!(differences(&before, &after, &[pier.tree()]).is_empty());
    assert_eq!(std::fs::read(alone.join("notes")).unwrap(), std::fs::read(original).unwrap());

    // one bit of the stored archive
    let file = stored(name);
    let mut bytes = std::fs::read(&file).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    std::fs::write(&file, bytes).unwrap();
    let found = pier.fondaco(&["depots", "verify", &archive]);
    assert_eq!(found.code(), 1, "{}", found.out());
    assert!(found.out().contains("is not what was written"), "{}", found.out());
}

#[test]
fn an_s3_store_is_a_depot_as_a_directory_is() {
    let Some(server) = Server::s3() else { return };
    let pier = Pier::s3(server.port);
    goes_and_comes_back(&pier, |name| server.root.join("seamark/pier").join(name));
    let left = objects(&server);
    assert_eq!(left.len(), 3, "{left:?}");
}

#[test]
fn a_webdav_collection_is_a_depot_as_a_directory_is() {
    let Some(server) = Server::webdav() else { return };
    let pier = Pier::webdav(server.port);
    goes_and_comes_back(&pier, |name| server.root.join("www/dav/pier").join(name));
    let names = members(&server);
    assert_eq!(names.len(), 3, "{names:?}");
}

/// A number that looks like chance, the same each time.
fn chance(seed: u64, number: u64, below: u64) -> u64 {
    let hash = blake3::hash(&[seed.to_le_bytes(), number.to_le_bytes()].concat());
    u64::from_le_bytes(hash.as_bytes()[..8].try_into().unwrap()) % below
}

/// One request in four is disturbed, in one of the ways.
fn disturbed(seed: u64) -> impl Fn(u64) -> Fault + Send + Sync + 'static {
    move |number| {
        if chance(seed, number, 4) > 0 {
            return Fault::None;
        }
        let at = |most| chance(seed ^ 1, number, most);
        match chance(seed ^ 2, number, 8) {
            0 => Fault::CutGoing(at(60_000)),
            1 => Fault::CutComing(at(60_000)),
            2 => Fault::CutComing(at(500)),
            3 => Fault::Answered(500),
            4 => Fault::Answered(503),
            // behind the head of an answer or a request
            5 => Fault::Flipped(600 + at(60_000)),
            6 => Fault::FlippedGoing(900 + at(60_000)),
            _ => Fault::Late,
        }
    }
}

/// Archives, puts back, archives … over a bad line. Whatever happens, every file is in its place or in an archive that gives
/// it back, and nothing half lies in the store under an archive's name.
fn nothing_is_lost_over_a_bad_line(
    server: &Server,
    connect: impl Fn(u16) -> Pier,
    stored: impl Fn(&Server) -> Vec<String>,
) {
    let transfers: u64 = std::env::var("TRANSFERS").map_or(60, |text| text.parse().unwrap());
    let (mut faults, mut requests_of, mut archived, mut refused) = (0, 0, 0, 0);
    while requests_of < transfers {
        let proxy = Proxy::to(server.port, disturbed(requests_of));
        let bad = connect(proxy.port);
        bad.fill(requests_of, 120_000);
        let before = picture(&bad.tree());
        let ran = bad.carry_out();
        let run = bad.last_run();
        for action in run["actions"].as_array().unwrap() {
            let path = Path::new(action["path"].as_str().unwrap());
            match action["state"].as_str().unwrap() {
                "archived" => {
                    assert!(!path.exists(), "{action}");
                    archived += 1;
                }
                "failed" | "refused" | "not begun" => {
                    assert!(path.exists(), "{action}\n{}", ran.out());
                    refused += 1;
                }
                _ => panic!("{action}"),
            }
        }
        // over a good line all of it comes back
        let number = run["run"].as_i64().unwrap().to_string();
        proxy.calm();
        let back = bad.fondaco(&["put-back", &number]);
        let after = picture(&bad.tree());
        let lost = differences(&before, &after, &[]);
        let lost: Vec<_> = lost.iter().filter(|path| **path != bad.tree()).collect();
        assert!(lost.is_empty(), "{lost:?}\n{}{}{}", ran.out(), back.out(), back.err());
        faults += proxy.faults();
        requests_of += proxy.requests();
    }
    for name in stored(server) {
        assert!(name.contains("fondaco-"), "{name}");
    }
    eprintln!("{requests_of} transfers, {faults} disturbed: {archived} archived, {refused} stayed");
    assert!(archived > 0 && refused > 0 || transfers < 500, "{archived} {refused}");
}

#[test]
fn over_a_bad_line_no_original_goes_without_its_proof_to_s3() {
    let Some(server) = Server::s3() else { return };
    nothing_is_lost_over_a_bad_line(&server, Pier::s3, objects);
}

#[test]
fn over_a_bad_line_no_original_goes_without_its_proof_to_webdav() {
    let Some(server) = Server::webdav() else { return };
    nothing_is_lost_over_a_bad_line(&server, Pier::webdav, members);
}

/// Killed after any of its requests, a run leaves every file in its place or in an archive that gives it back, and the next
/// run clears what the killed one had begun to send.
#[test]
fn a_killed_run_loses_nothing_and_its_upload_is_withdrawn() {
    let Some(server) = Server::s3() else { return };
    let mut after = 0;
    loop {
        after += 1;
        let proxy = Proxy::to(server.port, |_| Fault::None);
        let pier = Pier::s3(proxy.port);
        pier.fill(after, 12 << 20);
        let before = picture(&pier.tree());
        let plan = pier.plan();
        let asked = proxy.requests();
        let mut run = pier.command(&["carry-out", &plan]).stdout(Stdio::null()).spawn().unwrap();
        while proxy.requests() < asked + after && run.try_wait().unwrap().is_none() {
            std::thread::sleep(Duration::from_millis(1));
        }
        let was_killed = run.try_wait().unwrap().is_none();
        let _ = run.kill();
        run.wait().unwrap();
        // the next run settles the killed one
        let other = pier.at.join("other");
        std::fs::write(&other, b"x").unwrap();
        let small = pier.at.join("small.json").to_str().unwrap().to_owned();
        pier.fondaco(&["plan", "--delete", other.to_str().unwrap(), "-o", &small]).ok();
        let next = pier.fondaco(&["carry-out", &small]);
        assert!(!other.exists(), "{}{}", next.out(), next.err());
        let back = pier.fondaco(&["put-back", "1"]);
        let now = picture(&pier.tree());
        let lost = differences(&before, &now, &[]);
        let lost: Vec<_> = lost.iter().filter(|path| **path != pier.tree()).collect();
        assert!(lost.is_empty(), "after {after}: {lost:?}\n{}{}", back.out(), back.err());
        // the server may have been at work still; the next start of anything looks again
        let begun = Instant::now();
        let mut left = objects(&server);
        while left.iter().any(|name| name.ends_with(".zst.part")) && begun.elapsed() < PATIENCE {
            std::thread::sleep(Duration::from_millis(200));
            pier.fondaco(&["journal"]).ok();
            left = objects(&server);
        }
        // an upload that was begun and not yet noted has no parts: the server keeps its name alone; and what it was just
        // being sent is no part yet
        let fine = ["fondaco-", ".upload-", ".tmp."];
        // this server keeps a part that it was just being sent when its upload was withdrawn, and knows nothing of it any more
        let is_stray = |name: &String| {
            let part = name.strip_prefix(".upload_id-").and_then(|rest| rest.split_once(".part-"));
            part.is_some_and(|(upload, _)| !left.contains(&format!(".upload-{upload}.json")))
        };
        let is_fine =
            |name: &String| fine.iter().any(|begins| name.starts_with(begins)) || is_stray(name);
        assert!(
            left.iter().all(is_fine),
            "after {after}: {left:?}\n{}{}{}",
            next.out(),
            next.err(),
            pier.fondaco(&["log"]).out()
        );
        if !was_killed {
            break;
        }
    }
    assert!(after > 8, "{after}");
}

/// What is wrong is said, and everything stays in its place.
#[test]
fn a_store_that_cannot_be_come_into_takes_nothing() {
    let refused = |pier: &Pier, says: &[&str]| {
        pier.fill(3, 50_000);
        let before = picture(&pier.tree());
        let checked = pier.fondaco(&["depots", "check", &pier.depot]);
        assert_eq!(checked.code(), 1, "{}", checked.out());
        let ran = pier.carry_out();
        for said in [checked.out(), ran.out() + &ran.err()] {
            assert!(says.iter().all(|text| said.contains(text)), "{says:?}: {said}");
            assert!(!said.contains("wrong-secret"), "{said}");
        }
        assert_eq!(ran.code(), 3, "{}", ran.out());
        assert!(differences(&before, &picture(&pier.tree()), &[]).is_empty());
        let log = pier.fondaco(&["log"]).out();
        assert!(!log.contains("wrong-secret") && !log.contains("Signature"), "{log}");
    };
    let nowhere = Pier::s3(1);
    refused(&nowhere, &["127.0.0.1:1", "refused"]);
    let mut keyless = Pier::s3(1);
    keyless.variables.remove("AWS_SECRET_ACCESS_KEY");
    refused(&keyless, &["there are no keys for s3://seamark", ".aws/credentials"]);
    if let Some(server) = Server::s3() {
        let mut stranger = Pier::s3(server.port);
        stranger.variables.insert("AWS_SECRET_ACCESS_KEY", "wrong-secret".to_owned());
        refused(&stranger, &["403", "login"]);
    }
    let Some(server) = Server::webdav_over_tls(("night", "tide")) else { return };
    let over_tls = |authority: bool, password: &str| {
        let mut pier = Pier::new(format!("https://localhost:{}/dav/pier", server.port));
        let file = pier.at.join(".netrc");
        std::fs::write(&file, format!("machine localhost login night password {password}"))
            .unwrap();
        std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o600)).unwrap();
        if authority {
            let file = server.root.join("authority.pem").to_str().unwrap().to_owned();
            pier.variables.insert("SSL_CERT_FILE", file);
        }
        pier
    };
    refused(&over_tls(false, "tide"), &["localhost", "certificate"]);
    refused(&over_tls(true, "wrong-secret"), &["401", "login"]);
    let welcome = over_tls(true, "tide");
    welcome.fill(4, 50_000);
    assert!(welcome.carry_out().ok().out().contains("3 done"));
    welcome.fondaco(&["put-back", "1"]).ok();
    let file = welcome.at.join(".netrc");
    std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o644)).unwrap();
    refused(&welcome, &[".netrc", "mode 600"]);
}

/// A bucket is scanned and pruned like a directory: what is protected, or was written since, stays.
#[test]
fn a_bucket_is_ranked_and_pruned_by_rules() {
    let Some(server) = Server::s3() else { return };
    let pier = Pier::s3(server.port);
    let bucket = server.root.join("seamark");
    for (directory, count) in [("logs/pier-1", 6), ("logs/pier-2", 3), ("logs/kept", 3), ("raw", 2)]
    {
        std::fs::create_dir_all(bucket.join(directory)).unwrap();
        for n in 1..=count {
            let name = format!("{directory}/tide & <wind>-2041-03-0{n}.log");
            std::fs::write(bucket.join(name), vec![b'x'; 10_000 * n]).unwrap();
        }
    }
    let root = "s3://seamark/logs";
    let scanned = pier.fondaco(&["scan", root, "--json"]).ok().json();
    assert_eq!(scanned["roots"][0]["files"], 12, "{scanned}");
    let ranked = pier.fondaco(&["directories", root]).ok().out();
    let first = ranked.lines().position(|line| line.ends_with("pier-1/")).unwrap();
    assert!(first < ranked.lines().position(|line| line.ends_with("pier-2/")).unwrap(), "{ranked}");
    pier.fondaco(&["scan", root, "--save"]).ok();
    let rules = pier.at.join("rules.toml").to_str().unwrap().to_owned();
    let text = "protect = [\"kept\"]\n[[rule]]\ntitle = \"tides\"\naction = \"delete\"\nname = \"*.log\"\n\
                keep = 2\nof = \"directory\"\n";
    std::fs::write(&rules, text).unwrap();
    let plan = pier.at.join("plan.json").to_str().unwrap().to_owned();
    pier.fondaco(&["plan", "--rules", &rules, root, "-o", &plan]).ok();
    let rehearsed = pier.fondaco(&["carry-out", &plan, "--rehearse"]).ok();
    assert!(rehearsed.out().contains("5 of 5 actions would be done"), "{}", rehearsed.out());
    // written since
    let changed = bucket.join("logs/pier-1/tide & <wind>-2041-03-02.log");
    std::fs::write(&changed, b"anew").unwrap();
    let ran = pier.fondaco(&["carry-out", &plan]);
    assert_eq!(ran.code(), 3, "{}{}", ran.out(), ran.err());
    assert!(ran.out().contains("4 done, 1 refused"), "{}", ran.out());
    let left = |directory: &str| {
        let names = std::fs::read_dir(bucket.join("logs").join(directory)).unwrap();
        let names = names.map(|entry| entry.unwrap().file_name().into_string().unwrap());
        let mut days: Vec<_> = names.map(|name| name[name.len() - 6..][..2].to_owned()).collect();
        days.sort();
        days
    };
    assert_eq!(left("pier-1"), ["02", "05", "06"]);
    assert_eq!(left("pier-2"), ["02", "03"]);
    assert_eq!(left("kept"), ["01", "02", "03"]);
    // what has gone since the bucket was listed last, and its size over time
    let since = pier.fondaco(&["compare", root, "--json"]).ok().json();
    assert_eq!(since["changes"]["gone"]["entries"], 4, "{since}");
    assert_eq!(since["changes"]["shrunk"]["entries"], 1, "{since}");
    // two sizes of one second are one
    let saved = pier.fondaco(&["scans", "--json"]).ok().json();
    while pier.fondaco(&["scan", root, "--json"]).ok().json()["scanned"]
        == saved["scans"][0]["scanned"]
    {
        std::thread::sleep(Duration::from_millis(20));
    }
    pier.fondaco(&["scan", root, "--save"]).ok();
    let sizes = pier.fondaco(&["history", root, "--json"]).ok().json();
    let sizes: Vec<u64> = sizes["sizes"]
        .as_array()
        .unwrap()
        .iter()
        .map(|size| size["allocated"].as_u64().unwrap())
        .collect();
    let net = since["changes"]["net"].as_i64().unwrap();
    assert_eq!(sizes.len(), 2);
    assert_eq!(sizes[0] as i64 + net, sizes[1] as i64);
    // nothing else is done to objects, and a listing and a walk are not mixed
    let object = format!("{root}/kept/tide & <wind>-2041-03-01.log");
    let aside = pier.fondaco(&["plan", "--set-aside", &object]);
    assert!(aside.err().contains("can only be deleted"), "{}", aside.err());
    let mixed = pier.fondaco(&["scan", root, "/tmp"]);
    assert!(mixed.err().contains("are not scanned together"), "{}", mixed.err());
    // half of a listing is said to be half
    let proxy = Proxy::to(server.port, |number| match number {
        0..2 => Fault::None,
        _ => Fault::Answered(403),
    });
    let cut = Pier::s3(proxy.port);
    let scanned = cut.fondaco(&["scan", root]);
    assert_eq!(scanned.code(), 4, "{}", scanned.out());
    assert!(scanned.out().contains("403"), "{}{}", scanned.out(), scanned.err());
}

/// What a bucket may hold and no path can name is said, and not left out in silence.
#[test]
fn objects_that_no_path_can_name_are_told() {
    let listed = |request: &str| {
        let object = |key: &str| {
            format!(
                "<Contents><Key>{key}</Key><LastModified>2041-03-07T03:00:00.000Z</LastModified>\
                 <ETag>\"x\"</ETag><Size>512</Size><StorageClass>STANDARD</StorageClass></Contents>"
            )
        };
        let below = |key: &str| format!("<CommonPrefixes><Prefix>{key}</Prefix></CommonPrefixes>");
        let inner = match request.contains("prefix=logs%2Fpier%2F") {
            true => {
                [object("logs%2Fpier%2F"), object("logs%2Fpier%2Fa"), below("logs%2Fpier%2F%2F")]
            }
            false => [object("logs%2F%1B%5B31m"), below("logs%2F..%2F"), below("logs%2Fpier%2F")],
        };
        format!(
            "<ListBucketResult xmlns=\"http://s3.amazonaws.com/doc/2006-03-01/\"><Name>seamark</Name><Prefix>logs/</Prefix><MaxKeys>1000</MaxKeys>\
             <EncodingType>url</EncodingType><IsTruncated>false</IsTruncated>{}</ListBucketResult>",
            inner.concat()
        )
    };
    let server =
        Scripted::answering(move |request, client| answer(client, "200 OK", &listed(request)));
    let pier = Pier::s3(server.port);
    let ran = pier.fondaco(&["files", "s3://seamark/logs"]);
    assert_eq!(ran.code(), 4, "{}{}", ran.out(), ran.err());
    let out = ran.out();
    assert!(out.contains(r"logs/\x1b[31m") && out.contains("logs/pier/a"), "{out}");
    assert!(out.contains("2 of 2 files"), "{out}");
    assert!(ran.err().contains("2 places could not be read"), "{}", ran.err());
    let scanned = pier.fondaco(&["scan", "s3://seamark/logs"]).out();
    for odd in ["logs/..: its name", "logs/pier/: its name"] {
        assert!(scanned.contains(odd), "{scanned}");
    }
}

/// Rules for a store at a port, with more words for the one rule.
fn rules_of_store(pier: &Pier, port: u16, more: &str) -> String {
    let text = format!(
        "protect = [\"store:readings/kept-2041.01.01\"]\n[[store]]\nname = \"readings\"\n\
         list = \"http://127.0.0.1:{port}/list\"\nmembers = \"/indices\"\nname_at = \"/index\"\n\
         bytes_at = \"/bytes\"\nremove = \"DELETE http://127.0.0.1:{port}/indices/{{name}}\"\n\
         capacity = \"10 KiB\"\n{more}\n[[rule]]\ntitle = \"old readings\"\naction = \"delete\"\n\
         store = \"readings\"\nage = \"named\"\nolder = \"1 d\"\n"
    );
    let file = pier.at.join("rules.toml").to_str().unwrap().to_owned();
    std::fs::write(&file, text).unwrap();
    file
}

fn list_of(members: &[(&str, u64)]) -> String {
    let one = |(name, bytes): &(&str, u64)| serde_json::json!({ "index": name, "bytes": bytes });
    serde_json::json!({ "indices": members.iter().map(one).collect::<Vec<_>>() }).to_string()
}

/// The demo's own store: tried, tended down to the waterline, each with its snapshot, and quiet the next time.
#[test]
fn the_members_of_a_data_store_go_by_rules_as_files_do() {
    let pier = Pier::new(String::new());
    let mut command = pier.command(&["demo", "--store", "0"]);
    let mut server = command.stdout(Stdio::piped()).spawn().unwrap();
    let mut rules = String::new();
    let mut said = BufReader::new(server.stdout.take().unwrap()).lines();
    while !rules.contains("at_most") {
        rules += &said.next().unwrap().unwrap();
        rules += "\n";
    }
    let rules = rules.replace("at_most = { share = \"60 %\" }", "until = \"60 %\"");
    let file = pier.at.join("rules.toml");
    std::fs::write(&file, rules).unwrap();
    let file = file.to_str().unwrap();
    let tried = pier.fondaco(&["rules", "try", file, "store:readings", "--json"]).ok().json();
    let takes = tried["rules"][0]["takes"]["entries"].as_u64().unwrap();
    // enough and no more
    assert!((10..30).contains(&takes), "{tried}");
    let tended =
        pier.fondaco(&["tend", "--rules", file, "store:readings", pier.tree().to_str().unwrap()]);
    assert_eq!(tended.code(), 0, "{}{}", tended.out(), tended.err());
    let run = pier.last_run();
    let actions = run["actions"].as_array().unwrap();
    assert_eq!(actions.len() as u64, takes);
    assert!(actions.iter().all(|action| action["state"] == "deleted"), "{run}");
    let freed: i64 = actions.iter().map(|action| action["freed"].as_i64().unwrap()).sum();
    assert_eq!(run["measured"], freed, "{run}");
    let again = pier.fondaco(&["rules", "try", file, "store:readings", "--json"]).ok().json();
    assert_eq!(again["rules"][0]["takes"]["entries"], 0, "{again}");
    let back = pier.fondaco(&["put-back", "1"]);
    assert!(back.out().contains("nothing of run 1 can be put back"), "{}", back.out());
    server.kill().unwrap();
    server.wait().unwrap();
}

/// Whatever a store answers, only what was reviewed goes, by its own name, and only as long as it is what it was.
#[test]
fn a_data_store_that_lies_loses_nothing_that_was_not_reviewed() {
    let odd = ["../x-2041.01.01", "*", "_all", "a,b-2041.01.01", "kept-2041.01.01"];
    let old = ["tide-2019.01.01", "tide-2019.01.02", "tide-2019.01.03"];
    let all: Vec<(&str, u64)> = old.iter().chain(&odd).map(|name| (*name, 1000)).collect();
    let planned = |pier: &Pier, port: u16, more: &str| {
        let rules = rules_of_store(pier, port, more);
        let plan = pier.at.join("plan.json").to_str().unwrap().to_owned();
        let made =
            pier.fondaco(&["plan", "--rules", &rules, "store:readings", "-o", &plan, "--force"]);
        (plan, made)
    };
    let removals = |server: &Scripted| -> Vec<String> {
        server.asked().into_iter().filter(|asked| !asked.starts_with("GET")).collect()
    };

    // one has grown, one is gone, and one stays although its removal was answered well
    let lists = [
        list_of(&all),
        // once to measure, and once before each removal
        list_of(&[(old[0], 1001), (old[1], 1000), (old[2], 900)]),
        list_of(&[(old[0], 1001), (old[1], 1000), (old[2], 900)]),
        list_of(&[(old[1], 1000), (old[2], 900)]),
        list_of(&[(old[2], 900)]),
    ];
    let mut asked = 0;
    let server = Scripted::answering(move |request, client| match request {
        "GET /list" => {
            asked += 1;
            answer(client, "200 OK", &lists[(asked - 1).min(4)]);
        }
        _ => answer(client, "200 OK", "{}"),
    });
    let pier = Pier::new(String::new());
    let (plan, made) = planned(&pier, server.port, "");
    assert!(made.ok().out().contains("3 actions"));
    let ran = pier.fondaco(&["carry-out", &plan]);
    assert!(ran.out().contains("its length is another one"), "{}", ran.out());
    assert!(ran.out().contains("has it still"), "{}", ran.out());
    let gone = [1, 2]
        .map(|n| format!("DELETE /indices/{}", old[n].replace('-', "%2D").replace('.', "%2E")));
    assert_eq!(removals(&server), gone, "{}", ran.out());

    // without its snapshot nothing goes
    let list = list_of(&all);
    let server = Scripted::answering(move |request, client| match request {
        "GET /list" => answer(client, "200 OK", &list),
        _ => answer(client, "500 Internal Server Error", "{}"),
    });
    let pier = Pier::new(String::new());
    let snapshot =
        format!("snapshot = \"PUT http://127.0.0.1:{}/snapshots/{{name}}\"", server.port);
    let (plan, _) = planned(&pier, server.port, &snapshot);
    let ran = pier.fondaco(&["carry-out", &plan]);
    assert_eq!(ran.code(), 1, "{}", ran.out());
    assert!(removals(&server).iter().all(|asked| asked.starts_with("PUT")), "{}", ran.out());
    assert_eq!(removals(&server).len(), 3);

    // answers that are no list
    let elsewhere = Scripted::answering(|_, client| answer(client, "200 OK", "{}"));
    let location = format!("Location: http://127.0.0.1:{}/list\r\n", elsewhere.port);
    let redirect =
        format!("HTTP/1.1 302 Found\r\n{location}Content-Length: 0\r\nConnection: close\r\n\r\n");
    let endless = "HTTP/1.1 200 OK\r\nConnection: close\r\n\r\n{\"indices\":[".to_owned();
    let body = |body: &str| format!("HTTP/1.1 200 OK\r\nConnection: close\r\n\r\n{body}");
    for (text, says) in [
        (redirect, "302"),
        (endless, "no end"),
        (body("<html>"), "no JSON"),
        (body("{\"indices\":{}}"), "no list"),
        (body("{\"indices\":[{\"index\":\"a\",\"bytes\":\"1 GB\"}]}"), "no bytes"),
        (body(&list_of(&[("twice", 1), ("twice", 2)])), "two members called twice"),
        (body(&"[".repeat(100_000)), "no JSON"),
    ] {
        let is_endless = says == "no end";
        let server = Scripted::answering(move |_, client| {
            let mut written = client.write_all(text.as_bytes());
            while is_endless && written.is_ok() {
                written = client.write_all(&[b' '; 8192]);
            }
        });
        let pier = Pier::new(String::new());
        let (_, made) = planned(&pier, server.port, "");
        assert_eq!(made.code(), 1, "{says}: {}", made.out());
        assert!(made.err().contains(says), "{says}: {}", made.err());
        assert!(removals(&server).is_empty());
    }
    assert!(elsewhere.asked().is_empty());
}
