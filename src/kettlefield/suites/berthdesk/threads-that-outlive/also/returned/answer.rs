use std::collections::BTreeMap;
use std::io::{self, Read};
use std::thread;

/// Adds up the lines NAME NUMBER, each in a thread of its own; other lines are passed over.
fn tally(lines: Vec<String>) -> BTreeMap<String, i64> {
    let mut totals = BTreeMap::new();
    let mut workers = Vec::new();
    for line in lines {
        workers.push(thread::spawn(move || {
            let mut words = line.split_whitespace();
            let name = words.next()?.to_string();
            let number: i64 = words.next()?.parse().ok()?;
            words.next().is_none().then_some((name, number))
        }));
    }
    for worker in workers {
        if let Some((name, number)) = worker.join().unwrap() {
            *totals.entry(name).or_insert(0) += number;
        }
    }
    totals
}

fn main() {
    let mut text = String::new();
    io::stdin().read_to_string(&mut text).unwrap();
    let totals = tally(text.lines().map(String::from).collect());
    for (name, total) in &totals {
        println!("{name} {total}");
    }
    println!("names {}", totals.len());
}
