-- The clients that people hold stand at a desk.
ALTER TABLE bench_setup RENAME TO desk_setup;
