import type { components } from './api/schema';

/** Owners of a place with their contacts. */
export function Call({ owners }: { owners: components['schemas']['OwnerView'][] }) {
  return owners.map((owner) => (
    <p className="said" key={owner.as_number}>
      Call {owner.name}
      {owner.contact && ` (${owner.contact})`}.
    </p>
  ));
}
