import { decidePromotion, promotedAction, type Promotion } from '../core/release/promotion';
import type { Plan } from '../core/release/verdict';
import type { Delivery, DeliveryItem } from './delivery';

/** The delivery of a promotion. */
export function promotionDelivery(promotion: Promotion, items: readonly DeliveryItem[]): Delivery<Plan> {
  return {
    product: promotion.product,
    environment: promotion.environment,
    items,
    decide: (known) => decidePromotion(promotion, known),
    action: (verdict, images, together) => promotedAction(promotion, verdict, images, together),
  };
}
