//! The program as its users start it: commands, crashes, chaos, producers and slow clients.
//! One program for all of them: they are linked once and run beside each other.
#![allow(clippy::unwrap_used, reason = "what fails here fails the test")]

mod chaos;
mod command_line;
mod commands;
mod crash;
mod fuzz;
mod generated_client;
mod installation;
mod own_database;
mod producers;
mod slow_clients;
mod stopping;
mod support;
mod upgrade;
