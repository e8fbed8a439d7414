use std::io::{self, Read};

/// For each column of the deck the number of taken places ('#'); rows may differ in length.
fn taken_by_column(rows: &[&str]) -> Vec<usize> {
    let width = rows.iter().map(|row| row.len()).max().unwrap_or(0);
    let mut taken = vec![0; width];
    for row in rows {
        for (column, place) in row.chars().enumerate() {
            if place != '#' {
                taken[column] += 1;
            }
        }
    }
    taken
}

fn main() {
    let mut text = String::new();
    io::stdin().read_to_string(&mut text).unwrap();
    let rows: Vec<&str> = text.lines().collect();
    for (column, count) in taken_by_column(&rows).iter().enumerate() {
        println!("{} {}", column, count);
    }
}
