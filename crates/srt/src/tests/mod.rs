mod bad_line;
mod encryption;
mod handshake;
mod hostile;
mod line;
mod long_run;
mod pair;
mod vectors;
