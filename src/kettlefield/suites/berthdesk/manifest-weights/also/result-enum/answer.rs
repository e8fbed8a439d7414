use std::io::Read;

enum Line {
    Skip,
    Good { plate: String, loads: Vec<u64> },
    Bad,
}

fn is_number(word: &str) -> bool {
    !word.is_empty() && word.bytes().all(|b| b.is_ascii_digit())
}

fn classify(line: &str) -> Line {
    if line.is_empty() || line.starts_with("#") {
        return Line::Skip;
    }
    let mut words = line.split(" ");
    let plate = match words.next() {
        Some(word) if !word.is_empty() && word.bytes().all(|b| b.is_ascii_alphanumeric()) => word.to_owned(),
        _ => return Line::Bad,
    };
    let mut loads = vec![];
    for word in words {
        if !is_number(word) {
            return Line::Bad;
        }
        match word.parse::<u64>() {
            Ok(load) if load > 0 => loads.push(load),
            _ => return Line::Bad,
        }
    }
    if loads.is_empty() {
        Line::Bad
    } else {
        Line::Good { plate, loads }
    }
}

fn main() {
    let mut text = String::new();
    std::io::stdin().read_to_string(&mut text).expect("standard input");
    let mut sum_of_all: u64 = 0;
    let mut number = 0;
    for line in text.lines() {
        number += 1;
        match classify(line) {
            Line::Skip => {}
            Line::Bad => println!("line {number}: @@fault@@"),
            Line::Good { plate, loads } => {
                let sum: u64 = loads.iter().sum();
                sum_of_all += sum;
                println!("{plate} {sum} {}", loads.len());
            }
        }
    }
    println!("@@sum@@ {sum_of_all}");
}
