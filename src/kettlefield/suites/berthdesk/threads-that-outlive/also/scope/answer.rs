use std::collections::BTreeMap;
use std::io::{self, Read};
use std::sync::Mutex;
use std::thread;

/// Adds up the lines NAME NUMBER, each in a thread of its own; other lines are passed over.
fn tally(lines: Vec<String>) -> BTreeMap<String, i64> {
    let totals = Mutex::new(BTreeMap::new());
    thread::scope(|scope| {
        for line in &lines {
            scope.spawn(|| {
                let words: Vec<&str> = line.split_whitespace().collect();
                if let [name, number] = words[..] {
                    if let Ok(number) = number.parse::<i64>() {
                        *totals.lock().unwrap().entry(name.to_string()).or_insert(0) += number;
                    }
                }
            });
        }
    });
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
