//! A stand-in for a data store that is managed over HTTP: the observatory's daily readings, in memory. It answers to this
//! machine only, to one request after the other, and to nothing that it was not written for.

use std::collections::BTreeMap;
use std::io::{self, BufRead, BufReader, Read, Write};
use std::net::{Ipv4Addr, TcpListener, TcpStream};
use std::time::Duration;

use anyhow::{Context, Result};
use fondaco_core::units::Time;
use percent_encoding::percent_decode_str;
use serde_json::json;

use crate::output::say;

/// Days of which there are readings.
const DAYS: i64 = 60;
const DAY: i64 = 86_400;

/// The rules that go with it.
const RULES: &str = r#"[[store]]
name = "readings"
list = "http://127.0.0.1:PORT/indices"
members = "/indices"
name_at = "/index"
bytes_at = "/bytes"
date_at = "/created"
remove = "DELETE http://127.0.0.1:PORT/indices/{name}"
snapshot = "PUT http://127.0.0.1:PORT/snapshots/{name}"
capacity = "100 GiB"

[[rule]]
title = "readings older than a month"
action = "delete"
store = "readings"
older = "30 d"
at_most = { share = "60 %" }
"#;

/// Serves until it is ended. Says first under which port, with rules that can be tried on it.
///
/// # Errors
///
/// If the port cannot be had.
pub fn serve(port: u16, now: Time) -> Result<()> {
    let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, port))
        .with_context(|| format!("cannot listen on port {port} of this machine"))?;
    let port = listener.local_addr()?.port();
    say!("# a data store with {DAYS} days of readings answers on port {port}, until this is ended");
    say!("# write this to a file, and try it: fondaco rules try FILE store:readings");
    say!("{}", RULES.replace("PORT", &port.to_string()));
    io::stdout().flush()?;
    let mut held = readings(now);
    let mut snapshots = Vec::new();
    for client in listener.incoming().flatten() {
        // one that breaks off is no reason to end
        let _ = answer(&client, &mut held, &mut snapshots);
    }
    Ok(())
}

/// Names with their bytes and dates.
fn readings(now: Time) -> BTreeMap<String, (u64, i64)> {
    let day = |ago: i64| {
        let at = Time { sec: now.sec - ago * DAY, nsec: 0 };
        let date = at.rfc3339();
        let name = format!("readings-{}", date[..10].replace('-', "."));
        // as many tides as there are, and a storm now and then
        let bytes = (1 << 30) + (ago as u64 * 7_919 % 11) * (50 << 20);
        (name, (if ago % 17 == 3 { bytes * 3 } else { bytes }, at.sec))
    };
    (0..DAYS).map(day).collect()
}

fn answer(
    client: &TcpStream,
    held: &mut BTreeMap<String, (u64, i64)>,
    snapshots: &mut Vec<String>,
) -> io::Result<()> {
    client.set_read_timeout(Some(Duration::from_secs(5)))?;
    let mut lines = BufReader::new(client.take(64 << 10)).lines();
    let first = lines.next().transpose()?.unwrap_or_default();
    for line in lines {
        if line?.is_empty() {
            break;
        }
    }
    let mut words = first.split(' ');
    let (method, path) = (words.next().unwrap_or(""), words.next().unwrap_or(""));
    let unescaped = |name| percent_decode_str(name).decode_utf8_lossy().into_owned();
    let name = |before: &str| path.strip_prefix(before).map(unescaped);
    let (status, body) = match (method, name("/indices/"), name("/snapshots/")) {
        ("GET", None, None) if path == "/indices" => {
            let indices: Vec<_> = held
                .iter()
                .map(|(name, (bytes, at))| json!({ "index": name, "bytes": bytes, "created": at }))
                .collect();
            ("200 OK", json!({ "indices": indices, "snapshots": snapshots }).to_string())
        }
        ("DELETE", Some(name), _) if held.remove(&name).is_some() => {
            ("200 OK", json!({ "removed": name }).to_string())
        }
        ("PUT", _, Some(name)) if held.contains_key(&name) => {
            snapshots.push(name.clone());
            ("200 OK", json!({ "snapshot": name }).to_string())
        }
        ("DELETE", Some(_), _) | ("PUT", _, Some(_)) => ("404 Not Found", "{}".to_owned()),
        _ => ("400 Bad Request", "{}".to_owned()),
    };
    let length = body.len();
    let head = format!(
        "HTTP/1.1 {status}\r\nContent-Type: application/json\r\nContent-Length: {length}\r\nConnection: close\r\n\r\n"
    );
    { client }.write_all(head.as_bytes())?;
    { client }.write_all(body.as_bytes())
}
