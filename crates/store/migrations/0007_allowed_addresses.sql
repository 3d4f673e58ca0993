-- Where a key may be used from: addresses and networks, parted by commas. NULL is from anywhere.
ALTER TABLE stream_keys ADD COLUMN allowed_from VARCHAR(400) NULL;
