-- Names of the shipped guides, which a study keeps in its list of hidden lines, and the usual source of a guide. Titles of columns
-- and headlines follow in study/titles.py, since they come from the procedures.
UPDATE setting SET value = replace(value, '"Rated at 1 %"', '"Rated power, 1 %"') WHERE name = 'lines off';
UPDATE setting SET value = replace(value, '"Clipping near 2 %"', '"Clipping, 2 %"') WHERE name = 'lines off';
UPDATE setting SET value = replace(value, '"End of a sweep, 5 %"', '"Sweep end, 5 %"') WHERE name = 'lines off';
UPDATE setting SET value = replace(value, '"Half the power"', '"-3 dB (half power)"') WHERE name = 'lines off';
UPDATE setting SET value = replace(value, '"Live playing"', '"Live playing, 8 to 9 ms"') WHERE name = 'lines off';
UPDATE entry SET data = json_set(data, '$.source', 'rule of thumb') WHERE kind = 'guide' AND json_extract(data, '$.source') = 'common practice';
