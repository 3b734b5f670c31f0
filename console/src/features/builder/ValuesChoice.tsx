import type { Schemas } from '../../api/client';
import { Choice } from '../../shared/Choice';
import type { Change } from './Stage';

/** What the records hold, and how they are written. */
export function ValuesChoice({ values, change }: { values: Schemas['Values']; change: Change }) {
  return (
    <>
      <Choice
        label="A value holds"
        value={values.form ?? 'change'}
        onChange={(form) => change({ type: 'values', set: { form } })}
        data={[
          { value: 'change', label: 'The whole change' },
          { value: 'row', label: 'The new row' },
        ]}
      />
      <p className="quiet">
        {values.form === 'row'
          ? 'Only the row after the change; a delete has a key and no value. A truncate cannot be told.'
          : 'The kind, the row after and before it, and where and when it was committed.'}
      </p>
      <Choice
        label="Written as"
        value={values.encoding ?? 'avro'}
        onChange={(encoding) => change({ type: 'values', set: { encoding } })}
        data={[
          { value: 'avro', label: 'Avro' },
          { value: 'json', label: 'JSON' },
        ]}
      />
    </>
  );
}
