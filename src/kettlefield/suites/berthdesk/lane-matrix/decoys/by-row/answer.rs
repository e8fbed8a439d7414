use std::io::{self, Read};

/// For each column of the deck the number of taken places ('#'); rows may differ in length.
fn taken_by_column(rows: &[&str]) -> Vec<usize> {
    rows.iter().map(|row| row.chars().filter(|&place| place == '#').count()).collect()
}

fn main() {
    let mut text = String::new();
    io::stdin().read_to_string(&mut text).unwrap();
    let rows: Vec<&str> = text.lines().collect();
    for (column, count) in taken_by_column(&rows).iter().enumerate() {
        println!("{} {}", column, count);
    }
}
