-- What a sample counts, by the names of the measures: another measure is no other column.
ALTER TABLE throughput_sample ADD COLUMN counts jsonb NOT NULL DEFAULT '{}';
UPDATE throughput_sample SET counts = jsonb_build_object(
    'messages_in', messages_in, 'messages_out', messages_out, 'bytes_in', bytes_in, 'bytes_out', bytes_out
);
ALTER TABLE throughput_sample
    ALTER COLUMN counts DROP DEFAULT,
    DROP COLUMN messages_in, DROP COLUMN messages_out, DROP COLUMN bytes_in, DROP COLUMN bytes_out;
