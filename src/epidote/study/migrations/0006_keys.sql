-- Keys of readings and curves that say what they are; the procedures name the former ones (ReadingKind.former,
-- CurveView.former). Readings and headlines are JSON as this program writes it, so a key stands behind '"key": '.
UPDATE run SET readings = replace(readings, '"key": "apart"', '"key": "arrival_separation"'), headline = replace(headline, '"key": "apart"', '"key": "arrival_separation"')
    WHERE procedure = 'paths';
UPDATE entry SET data = json_set(data, '$.key', 'arrival_separation')
    WHERE kind = 'limit' AND json_extract(data, '$.procedure') = 'paths' AND json_extract(data, '$.key') = 'apart';
UPDATE run SET readings = replace(readings, '"key": "best"', '"key": "optimum_delay"'), headline = replace(headline, '"key": "best"', '"key": "optimum_delay"')
    WHERE procedure = 'paths';
UPDATE entry SET data = json_set(data, '$.key', 'optimum_delay')
    WHERE kind = 'limit' AND json_extract(data, '$.procedure') = 'paths' AND json_extract(data, '$.key') = 'best';
UPDATE run SET readings = replace(readings, '"key": "modulation"', '"key": "delay_modulation"'), headline = replace(headline, '"key": "modulation"', '"key": "delay_modulation"')
    WHERE procedure = 'paths';
UPDATE entry SET data = json_set(data, '$.key', 'delay_modulation')
    WHERE kind = 'limit' AND json_extract(data, '$.procedure') = 'paths' AND json_extract(data, '$.key') = 'modulation';
UPDATE run SET readings = replace(readings, '"key": "events"', '"key": "transients"'), headline = replace(headline, '"key": "events"', '"key": "transients"')
    WHERE procedure = 'paths';
UPDATE entry SET data = json_set(data, '$.key', 'transients')
    WHERE kind = 'limit' AND json_extract(data, '$.procedure') = 'paths' AND json_extract(data, '$.key') = 'events';
UPDATE run SET readings = replace(readings, '"key": "event_spread"', '"key": "transient_spread"'), headline = replace(headline, '"key": "event_spread"', '"key": "transient_spread"')
    WHERE procedure = 'paths';
UPDATE entry SET data = json_set(data, '$.key', 'transient_spread')
    WHERE kind = 'limit' AND json_extract(data, '$.procedure') = 'paths' AND json_extract(data, '$.key') = 'event_spread';
UPDATE run SET readings = replace(readings, '"key": "apart"', '"key": "arrival_separation"'), headline = replace(headline, '"key": "apart"', '"key": "arrival_separation"')
    WHERE procedure = 'latency';
UPDATE entry SET data = json_set(data, '$.key', 'arrival_separation')
    WHERE kind = 'limit' AND json_extract(data, '$.procedure') = 'latency' AND json_extract(data, '$.key') = 'apart';
UPDATE run SET readings = replace(readings, '"key": "second"', '"key": "second_arrival"'), headline = replace(headline, '"key": "second"', '"key": "second_arrival"')
    WHERE procedure = 'latency';
UPDATE entry SET data = json_set(data, '$.key', 'second_arrival')
    WHERE kind = 'limit' AND json_extract(data, '$.procedure') = 'latency' AND json_extract(data, '$.key') = 'second';
UPDATE run SET readings = replace(readings, '"key": "beside_buffers"', '"key": "non_buffer_latency"'), headline = replace(headline, '"key": "beside_buffers"', '"key": "non_buffer_latency"')
    WHERE procedure = 'latency';
UPDATE entry SET data = json_set(data, '$.key', 'non_buffer_latency')
    WHERE kind = 'limit' AND json_extract(data, '$.procedure') = 'latency' AND json_extract(data, '$.key') = 'beside_buffers';
UPDATE run SET readings = replace(readings, '"key": "buffers"', '"key": "buffer_latency"'), headline = replace(headline, '"key": "buffers"', '"key": "buffer_latency"')
    WHERE procedure = 'latency';
UPDATE entry SET data = json_set(data, '$.key', 'buffer_latency')
    WHERE kind = 'limit' AND json_extract(data, '$.procedure') = 'latency' AND json_extract(data, '$.key') = 'buffers';
UPDATE run SET readings = replace(readings, '"key": "range"', '"key": "latency_range"'), headline = replace(headline, '"key": "range"', '"key": "latency_range"')
    WHERE procedure = 'latency';
UPDATE entry SET data = json_set(data, '$.key', 'latency_range')
    WHERE kind = 'limit' AND json_extract(data, '$.procedure') = 'latency' AND json_extract(data, '$.key') = 'range';
UPDATE curve SET key = 'delay_over_time' WHERE key = 'course' AND run_id IN (SELECT id FROM run WHERE procedure = 'paths');
UPDATE pin SET curve = 'delay_over_time' WHERE curve = 'course' AND column_id IN (SELECT id FROM column_ WHERE procedure = 'paths');
UPDATE entry SET data = json_set(data, '$.key', 'delay_over_time')
    WHERE kind = 'limit' AND json_extract(data, '$.procedure') = 'paths' AND json_extract(data, '$.key') = 'course';
UPDATE curve SET key = 'transient_delay' WHERE key = 'event_delay' AND run_id IN (SELECT id FROM run WHERE procedure = 'paths');
UPDATE pin SET curve = 'transient_delay' WHERE curve = 'event_delay' AND column_id IN (SELECT id FROM column_ WHERE procedure = 'paths');
UPDATE entry SET data = json_set(data, '$.key', 'transient_delay')
    WHERE kind = 'limit' AND json_extract(data, '$.procedure') = 'paths' AND json_extract(data, '$.key') = 'event_delay';
UPDATE curve SET key = 'transient_level' WHERE key = 'event_level' AND run_id IN (SELECT id FROM run WHERE procedure = 'paths');
UPDATE pin SET curve = 'transient_level' WHERE curve = 'event_level' AND column_id IN (SELECT id FROM column_ WHERE procedure = 'paths');
UPDATE entry SET data = json_set(data, '$.key', 'transient_level')
    WHERE kind = 'limit' AND json_extract(data, '$.procedure') = 'paths' AND json_extract(data, '$.key') = 'event_level';
UPDATE curve SET key = 'transient_delay_spread' WHERE key = 'event_delay_spread' AND run_id IN (SELECT id FROM run WHERE procedure = 'paths');
UPDATE pin SET curve = 'transient_delay_spread' WHERE curve = 'event_delay_spread' AND column_id IN (SELECT id FROM column_ WHERE procedure = 'paths');
UPDATE entry SET data = json_set(data, '$.key', 'transient_delay_spread')
    WHERE kind = 'limit' AND json_extract(data, '$.procedure') = 'paths' AND json_extract(data, '$.key') = 'event_delay_spread';
UPDATE curve SET key = 'transient_time_spread' WHERE key = 'event_time_spread' AND run_id IN (SELECT id FROM run WHERE procedure = 'paths');
UPDATE pin SET curve = 'transient_time_spread' WHERE curve = 'event_time_spread' AND column_id IN (SELECT id FROM column_ WHERE procedure = 'paths');
UPDATE entry SET data = json_set(data, '$.key', 'transient_time_spread')
    WHERE kind = 'limit' AND json_extract(data, '$.procedure') = 'paths' AND json_extract(data, '$.key') = 'event_time_spread';
UPDATE curve SET key = 'output_spectrum' WHERE key = 'capture' AND run_id IN (SELECT id FROM run WHERE procedure = 'response');
UPDATE pin SET curve = 'output_spectrum' WHERE curve = 'capture' AND column_id IN (SELECT id FROM column_ WHERE procedure = 'response');
UPDATE entry SET data = json_set(data, '$.key', 'output_spectrum')
    WHERE kind = 'limit' AND json_extract(data, '$.procedure') = 'response' AND json_extract(data, '$.key') = 'capture';
-- operating points belong to a column; guides name the curves on which they are drawn
UPDATE entry SET data = json_set(data, '$.curve', 'delay_over_time') WHERE kind = 'point' AND json_extract(data, '$.curve') = 'course'
    AND column_id IN (SELECT id FROM column_ WHERE procedure = 'paths');
UPDATE entry SET data = replace(data, '"course"', '"delay_over_time"') WHERE kind = 'guide';
UPDATE entry SET data = json_set(data, '$.curve', 'output_spectrum') WHERE kind = 'point' AND json_extract(data, '$.curve') = 'capture'
    AND column_id IN (SELECT id FROM column_ WHERE procedure = 'response');
UPDATE entry SET data = replace(data, '"capture"', '"output_spectrum"') WHERE kind = 'guide';
UPDATE entry SET data = json_set(data, '$.curve', 'transient_delay') WHERE kind = 'point' AND json_extract(data, '$.curve') = 'event_delay'
    AND column_id IN (SELECT id FROM column_ WHERE procedure = 'paths');
UPDATE entry SET data = replace(data, '"event_delay"', '"transient_delay"') WHERE kind = 'guide';
UPDATE entry SET data = json_set(data, '$.curve', 'transient_level') WHERE kind = 'point' AND json_extract(data, '$.curve') = 'event_level'
    AND column_id IN (SELECT id FROM column_ WHERE procedure = 'paths');
UPDATE entry SET data = replace(data, '"event_level"', '"transient_level"') WHERE kind = 'guide';
UPDATE entry SET data = json_set(data, '$.curve', 'transient_delay_spread') WHERE kind = 'point' AND json_extract(data, '$.curve') = 'event_delay_spread'
    AND column_id IN (SELECT id FROM column_ WHERE procedure = 'paths');
UPDATE entry SET data = replace(data, '"event_delay_spread"', '"transient_delay_spread"') WHERE kind = 'guide';
UPDATE entry SET data = json_set(data, '$.curve', 'transient_time_spread') WHERE kind = 'point' AND json_extract(data, '$.curve') = 'event_time_spread'
    AND column_id IN (SELECT id FROM column_ WHERE procedure = 'paths');
UPDATE entry SET data = replace(data, '"event_time_spread"', '"transient_time_spread"') WHERE kind = 'guide';
