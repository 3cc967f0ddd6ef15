//! Prints the description of the interface, from which the console's types are made.

fn main() {
    println!("{}", vastrelay_service::document());
}
