-- expect: formic
-- expect: thymol
SELECT code FROM remedy WHERE wait_days > 0 ORDER BY code;
