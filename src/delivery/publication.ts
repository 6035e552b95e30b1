import {
  decidePublication,
  publishedAction,
  type Publication,
  type PublicationPlan,
} from '../core/release/publication';
import { together } from '../core/release/knowledge';
import type { Delivery, DeliveryItem, Manner } from './delivery';

/** The delivery of a publication. */
export function publicationDelivery(
  publication: Publication,
  items: readonly DeliveryItem[],
  manner: Manner,
): Delivery<PublicationPlan> {
  return {
    product: publication.product,
    environment: publication.environment,
    items,
    manner,
    decide: (known) => together([decidePublication(publication, known)]),
    action: (verdict, components) => publishedAction(publication, verdict, components),
  };
}
