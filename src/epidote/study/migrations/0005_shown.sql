-- Headlines say how they are shown ("shown": "quantity", "plus_minus", "count" or "polarity"); study/titles.py adds it.
SELECT 1;
