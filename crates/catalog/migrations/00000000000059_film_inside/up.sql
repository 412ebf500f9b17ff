-- Why: phones write the second before and after the press into the picture's own file. Pictures that came before that was looked for are read once more, in the
-- background, as files were whose words had not been read.
DROP INDEX original_words_unread;
CREATE INDEX original_unread ON original (id)
    WHERE (kind = 'photo' AND NOT facts ? 'film_inside' OR kind IN ('photo', 'raw', 'video', 'sidecar') AND NOT facts ? 'caption')
        AND held_at IS NULL AND gone_at IS NULL;
INSERT INTO job (kind, key, priority, due)
SELECT 'words', '00000000-0000-0000-0000-000000000000', 25, now()
WHERE EXISTS (SELECT FROM original WHERE kind = 'photo' AND NOT facts ? 'film_inside' AND held_at IS NULL AND gone_at IS NULL)
ON CONFLICT DO NOTHING;
