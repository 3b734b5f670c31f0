-- A version before that changes a connection keeps the settings that it does not know: how its system is reached, say.
CREATE OR REPLACE FUNCTION connections_as_before() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF NEW.given IS NULL OR TG_OP = 'UPDATE' AND NEW.given = OLD.given AND NEW.sealed = OLD.sealed
        AND (NEW.host, NEW.port, NEW.database, NEW.username, NEW.tls, NEW.ca, NEW.log_username, NEW.settings,
            NEW.sealed_password, NEW.sealed_log_password)
        IS DISTINCT FROM (OLD.host, OLD.port, OLD.database, OLD.username, OLD.tls, OLD.ca, OLD.log_username, OLD.settings,
            OLD.sealed_password, OLD.sealed_log_password)
    THEN
        NEW.given := coalesce(OLD.given, '{}') - '{host,port,database,user,tls,ca,log_user,settings}'::text[]
            || jsonb_strip_nulls(jsonb_build_object('host', NEW.host, 'port', NEW.port, 'database', NEW.database, 'user', NEW.username,
            'tls', nullif(NEW.tls, 'prefer'), 'ca', NEW.ca, 'log_user', NEW.log_username,
            'settings', nullif(NEW.settings, '{}')));
        NEW.sealed := coalesce(OLD.sealed, '{}') - '{password,log_password}'::text[] || jsonb_strip_nulls(jsonb_build_object(
            'password', translate(encode(NEW.sealed_password, 'base64'), E'\n', ''),
            'log_password', translate(encode(NEW.sealed_log_password, 'base64'), E'\n', '')));
    ELSE
        NEW.host := coalesce(NEW.given ->> 'host', '');
        NEW.port := coalesce((NEW.given ->> 'port')::int, 0);
        NEW.database := coalesce(NEW.given ->> 'database', '');
        NEW.username := coalesce(NEW.given ->> 'user', '');
        NEW.tls := coalesce(NEW.given ->> 'tls', 'prefer');
        NEW.ca := NEW.given ->> 'ca';
        NEW.log_username := NEW.given ->> 'log_user';
        NEW.settings := coalesce(NEW.given -> 'settings', '{}');
        NEW.sealed_password := coalesce(decode(NEW.sealed ->> 'password', 'base64'), '');
        NEW.sealed_log_password := decode(NEW.sealed ->> 'log_password', 'base64');
    END IF;
    RETURN NEW;
END $$;
