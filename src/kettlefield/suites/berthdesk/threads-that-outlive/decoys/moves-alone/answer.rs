use std::collections::BTreeMap;
use std::io::{self, Read};
use std::sync::Mutex;
use std::thread;

/// Adds up the lines NAME NUMBER, each in a thread of its own; other lines are passed over.
fn tally(lines: Vec<String>) -> BTreeMap<String, i64> {
    let totals = Mutex::new(BTreeMap::new());
    let mut workers = Vec::new();
    for line in lines {
        workers.push(thread::spawn(move || {
            let words: Vec<&str> = line.split_whitespace().collect();
            let number = words[1].parse::<i64>().unwrap();
            *totals.lock().unwrap().entry(words[0].to_string()).or_insert(0) += number;
        }));
    }
    for worker in workers {
        worker.join().unwrap();
    }
    totals.into_inner().unwrap()
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
