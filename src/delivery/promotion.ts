import { decidePromotion, promotedAction, type Promotion } from '../core/release/promotion';
import type { Plan } from '../core/release/verdict';
import type { Delivery, DeliveryItem, Manner } from './delivery';

/** The delivery of a promotion. */
export function promotionDelivery(
  promotion: Promotion,
  items: readonly DeliveryItem[],
  manner: Manner,
): Delivery<Plan> {
  return {
    product: promotion.product,
    environment: promotion.environment,
    items,
    manner,
    decide: (known) => decidePromotion(promotion, known),
    action: (verdict, components, together) =>
      promotedAction(promotion, verdict, components, { decidedTogether: together }),
  };
}
