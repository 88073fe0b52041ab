DROP TABLE owner_entry, owner_import, alarm, finding, path_latest, path_window, lease, judge,
    round, batch, route, resolution, flow, path, join_code, agent, schedule, target, site, meta;
