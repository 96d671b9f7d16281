-- What a plan's run found when it ended (edges with their probabilities), and what showed a failure, by ids.

ALTER TABLE "plan" ADD COLUMN found TEXT;
ALTER TABLE attempt ADD COLUMN seen TEXT;
